"""Which of a day's files are one recording: sets of tracks, and runs of parts; looked at with their sound."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import takewhile
from pathlib import PurePosixPath

from vesk.core.errors import MediaError
from vesk.core.intake.filed import Filed
from vesk.core.intake.runs import Joint, Signs, find_joints, find_runs, is_doubtful
from vesk.core.intake.sets import find_sets
from vesk.core.kinds import PICTURE, RUN, SET, Together
from vesk.core.sound.continuity import LOOKED_AT_S, continuity, together
from vesk.dailies.located import Located
from vesk.dailies.searching import Searches, gap_between
from vesk.media import cache
from vesk.media.movie import EXACT_CODERS

_NEAR_S = 30  # seconds that clocks of two devices may be apart
_BESIDE = "+sound"  # behind the name of a picture that is taken together with its own sound


@dataclass(frozen=True, slots=True)
class Merged:
    """Recordings, by key and in order, that are one; how, and why, for a person."""

    keys: tuple[str, ...]
    how: Together
    why: str


def sets_among(filed: Sequence[Filed], apart: Collection[tuple[str, str]] = ()) -> list[Merged]:
    """Return the sets of a day, but for any that a person took apart."""
    found = [Merged(one.keys, SET, one.reason) for one in find_sets(filed)]
    return [one for one in found if not any(pair in apart for pair in zip(one.keys[:-1], one.keys[1:], strict=True))]


def runs_among(
    filed: Sequence[Filed],
    located: Mapping[str, Located],
    apart: Collection[tuple[str, str]] = (),
    searches: Searches | None = None,
) -> list[Merged]:
    """Return the runs of a day; joints whose files were not listened to yet wait.

    Long work where a joint is doubtful: both its files are then looked for on what other devices recorded.
    """
    ready, signs, searches = [], {}, searches or Searches()
    for joint in find_joints(filed):
        pair = (joint.first, joint.second)
        said = None if pair in apart else _signs(joint, filed, located, searches)
        if said is not None:
            ready.append(joint)
            signs[pair] = said
    return [Merged(run.keys, RUN, run.reason) for run in find_runs(ready, signs, apart)]


def _signs(joint: Joint, filed: Sequence[Filed], located: Mapping[str, Located], searches: Searches) -> Signs | None:
    first, second = located[joint.first], located[joint.second]
    sound = joint_says(first, second)
    if sound is None:
        return None
    said = Signs(sound)
    if not is_doubtful(joint, said) or not (first.facts.channels and second.facts.channels):
        return said
    by_key = {one.key: one for one in filed}
    others = [one for one in filed if _could_hold(one, by_key[joint.first], by_key[joint.second])]
    if not all(_is_heard(located[one.key]) for one in others):
        return None
    there = {one.key: located[one.key] for one in others}
    gap = gap_between(first, second, there, {one.key: one for one in others}, searches)
    return Signs(sound, gap)


def _could_hold(other: Filed, first: Filed, second: Filed) -> bool:
    """Say whether another device's recording may hold the end of one and the start of the next: by clocks, if any."""
    if other.kind == first.kind or not other.channels:
        return False
    if other.start is None or first.start is None or second.start is None or first.start == second.start:
        return True
    ends = other.start - _NEAR_S, other.start + other.duration + _NEAR_S
    return any(ends[0] <= at <= ends[1] for at in (first.start + first.duration, second.start))


def _is_heard(one: Located) -> bool:
    return one.entry.done.exists()


def joint_says(first: Located, second: Located) -> float | None:
    """Return the evidence that sound goes on from one recording to the next, nats; None: not listened to yet."""
    if not first.facts.channels or not second.facts.channels:
        return 0.0
    if not all(map(_is_heard, (first, second))):
        return None
    rate = first.facts.sample_rate
    near = round(LOOKED_AT_S * rate)
    last = round(first.facts.duration * rate) if first.facts.kind == PICTURE else first.facts.samples
    channels = cache.matching_channels(first.facts, first.entry)
    try:
        with first.reader() as before, second.reader() as after:
            tail, head = before.read(last - near, near), after.read(0, near)
    except MediaError:
        return 0.0
    says = together([continuity(tail[:, channel], head[:, channel], rate) for channel in channels])
    exact = all(one.facts.sound_codec.startswith(EXACT_CODERS) for one in (first, second))
    # A coder blurs where a file begins and ends: what it breaks tells nothing of the sound.
    return says if exact else max(says, 0.0)


def merged_path(paths: Sequence[str], *, beside: bool = False) -> str:
    """Return a name for recordings taken together, in the first one's folder.

    Parameters
    ----------
    paths : sequence of str
    beside : bool
        Whether the first is a picture, and the others its own sound.

    Examples
    --------
    >>> merged_path(["A/clip0017.mov", "A/clip0017.wav"], beside=True)
    'A/clip0017+sound.mov'
    >>> merged_path(["E/clip0017.mov", "E/clip0018.mov"]), merged_path(["S1/a.wav", "S1/b.wav"])
    ('E/clip0017-0018.mov', 'S1/a-b.wav')
    """
    first, last = PurePosixPath(paths[0]), PurePosixPath(paths[-1])
    if beside:
        return str(first.with_name(f"{first.stem}{_BESIDE}{first.suffix}"))
    stem, end = first.stem.removesuffix(_BESIDE), last.stem.removesuffix(_BESIDE)
    shared = "".join(a for a, _ in takewhile(lambda pair: pair[0] == pair[1], zip(stem, end, strict=False)))
    rest = last.stem[len(shared.rstrip("0123456789")) :] or last.stem
    return str(first.with_name(f"{stem}-{rest}{first.suffix}"))
