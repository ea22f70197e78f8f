"""What was found of recordings, as the day's solution takes it: rows and files make the same evidence by this."""

from __future__ import annotations

import re

from vesk.core.day.day import Match
from vesk.core.facts import Facts
from vesk.core.heard import Heard
from vesk.core.kinds import MATCHED, REFUSED
from vesk.core.sound.measurement import Jump, Measurement

_BETWEEN = re.compile(r"[\s_.-]+")
_IDLE = re.compile(r"(?<!\d)\.|\.(?!\d)")  # 24-A is 24A; but 1.12 and 11.2 are two scenes
_CONFIRMED, _AT_MOST = 0.98, 0.94


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
        line.se_ppm, _steps(line.jumps), _steps(line.unsure),
    )  # fmt: skip


def _steps(found: tuple[Jump, ...]) -> tuple[tuple[float, float, float], ...]:
    return tuple((one.low_s, one.high_s, one.step_s) for one in found)


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
