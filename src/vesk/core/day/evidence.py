"""What was found of recordings, as the day's solution takes it: rows and files make the same evidence by this."""

from __future__ import annotations

import re
from itertools import pairwise

from vesk.core.day.day import Match
from vesk.core.facts import Facts
from vesk.core.heard import Heard
from vesk.core.kinds import MATCHED, REFUSED
from vesk.core.sound.measurement import Jump, Measurement

_BETWEEN = re.compile(r"[\s_.-]+")
_IDLE = re.compile(r"(?<!\d)\.|\.(?!\d)")  # 24-A is 24A; but 1.12 and 11.2 are two scenes
_CONFIRMED, _AT_MOST = 0.98, 0.94
_GAP_S, _LEAST_WINDOWS = 6.0, 4  # longer, and nobody knows what happened there; fewer agree by chance


def likely_seen(likely: float, *, confirmed: bool) -> float:
    """Return how likely a clap seen is where the sticks met: as a person said, or by how it looks, which is less."""
    return _CONFIRMED if confirmed else min(likely, _AT_MOST)


def match_of(picture: str, sound: str, found: Measurement) -> Match | None:
    """Return a measurement as the day's solution takes it; None where it gives no place.

    Parameters
    ----------
    picture, sound : str
        Keys of the two recordings.
    found : Measurement
    """
    line = found.line
    if line is None or found.decision == REFUSED:
        return None
    return Match(
        picture, sound, found.head_s, found.tail_s, line.offset_at(found.head_s),
        line.standard_error_at(found.head_s), line.ppm, found.decision == MATCHED, found.share,
        line.se_ppm, _steps(line.jumps), _steps(line.unsure), _agreeing(found),
    )  # fmt: skip


def _steps(found: tuple[Jump, ...]) -> tuple[tuple[float, float, float], ...]:
    return tuple((one.low_s, one.high_s, one.step_s) for one in found)


def _agreeing(found: Measurement) -> tuple[tuple[float, float], ...]:
    """Return the stretches in which windows went on agreeing, each from its second window to its last but one."""
    at = [point.at_s for point in found.trace if point.agrees]
    gap = max(_GAP_S, 3 * (found.tail_s - found.head_s) / max(1, len(found.trace)))
    breaks = [n + 1 for n, (one, other) in enumerate(pairwise(at)) if other - one > gap]
    stretches = [at[low:high] for low, high in pairwise([0, *breaks, len(at)])]
    return tuple((one[1], one[-2]) for one in stretches if len(one) >= _LEAST_WINDOWS)


def slate_of(scene: str, take: str) -> str:
    """Return scene and take as one word, the same however they were written; empty where either is not known.

    Parameters
    ----------
    scene, take : str

    Examples
    --------
    >>> slate_of("24-a", "03") == slate_of(" 024A ", "3"), slate_of("", "3")
    (True, '')
    """
    scene, take = (_IDLE.sub("", _BETWEEN.sub(".", one.casefold())).lstrip("0") for one in (scene, take))
    return f"{scene} / {take}" if scene and take else ""


def has_ears(facts: Facts, heard: Heard | None) -> bool:
    """Say whether a recording has sound that is not timecode.

    Parameters
    ----------
    facts : Facts
    heard : Heard or None
        On its channels; None before it was listened to.
    """
    coded = heard.ltc if heard else {}
    return any(channel not in coded for channel in range(facts.channels))
