"""Which of a day's files are one recording: mono sets, and runs of parts; looked at with their sound."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import takewhile
from pathlib import PurePosixPath

from vesk.actions.located import Located
from vesk.core.errors import MediaError
from vesk.core.intake.filed import Filed
from vesk.core.intake.runs import find_joints, find_runs
from vesk.core.intake.sets import find_sets
from vesk.core.sound.continuity import BREAKS, LOOKED_AT_S, UNKNOWN, continuity, together
from vesk.media import cache
from vesk.media.facts import PICTURE
from vesk.media.joined import RUN, SET
from vesk.media.movie import EXACT_CODERS


@dataclass(frozen=True, slots=True)
class Joined:
    """Recordings, by key and in order, that are one; how, and why, for a person."""

    keys: tuple[str, ...]
    how: str
    why: str


def sets_among(filed: Sequence[Filed], parted: Collection[tuple[str, str]] = ()) -> list[Joined]:
    """Return the mono sets of a day, but for any that a person took apart."""
    found = [Joined(one.keys, SET, one.reason) for one in find_sets(filed)]
    return [one for one in found if not any(pair in parted for pair in zip(one.keys[:-1], one.keys[1:], strict=True))]


def runs_among(
    filed: Sequence[Filed], located: Mapping[str, Located], parted: Collection[tuple[str, str]] = ()
) -> list[Joined]:
    """Return the runs of a day; joints whose files were not listened to yet wait."""
    joints = [one for one in find_joints(filed) if (one.first, one.second) not in parted]
    heard = {}
    for joint in joints:
        says = joint_says(located[joint.first], located[joint.second])
        if says is not None:
            heard[joint.first, joint.second] = says
    ready = [joint for joint in joints if (joint.first, joint.second) in heard]
    return [Joined(run.keys, RUN, run.reason) for run in find_runs(ready, heard, parted)]


def joint_says(first: Located, second: Located) -> str | None:
    """Return whether sound goes on from one recording to the next; None where it was not listened to yet."""
    if not first.facts.channels or not second.facts.channels:
        return UNKNOWN
    if not all(one.kept.done.exists() for one in (first, second)):
        return None
    rate = first.facts.sample_rate
    near = round(LOOKED_AT_S * rate)
    last = round(first.facts.duration * rate) if first.facts.kind == PICTURE else first.facts.samples
    channels = cache.matching_channels(first.facts, first.kept)
    try:
        with first.reader() as before, second.reader() as after:
            tail, head = before.read(last - near, near), after.read(0, near)
    except MediaError:
        return UNKNOWN
    says = together([continuity(tail[:, channel], head[:, channel], rate) for channel in channels])
    exact = all(one.facts.sound_codec.startswith(EXACT_CODERS) for one in (first, second))
    # A coder blurs where a file begins and ends: what it breaks tells nothing of the sound.
    return says if exact or says != BREAKS else UNKNOWN


def joined_path(paths: Sequence[str]) -> str:
    """Return a name for recordings taken together, in the first one's folder.

    Examples
    --------
    >>> joined_path(["E/clip0017.mov", "E/clip0018.mov"]), joined_path(["S1/a.wav", "S1/b.wav"])
    ('E/clip0017-0018.mov', 'S1/a-b.wav')
    """
    first, last = PurePosixPath(paths[0]), PurePosixPath(paths[-1])
    shared = "".join(a for a, _ in takewhile(lambda pair: pair[0] == pair[1], zip(first.stem, last.stem, strict=False)))
    rest = last.stem[len(shared.rstrip("0123456789")) :] or last.stem
    return str(first.with_name(f"{first.stem}-{rest}{first.suffix}"))
