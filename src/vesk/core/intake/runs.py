"""Runs: files that one device wrote one after the other without stopping, parts of one recording.

No sign decides alone. Each is worth its logarithm of the odds, in nats, and they are added up. What sound is worth was
measured on 1 440 made joints of each kind; the others are estimates of how often a device that was stopped shows them.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise
from typing import Any

from vesk.core.intake.counting import Names
from vesk.core.intake.filed import Filed
from vesk.core.kinds import NONE
from vesk.core.wording import duration

_SIZES = (2**31, 4_000_000_000, 2**32)  # bytes that file systems and formats end at
_MINUTES = (1, 2, 3, 4, 5, 10, 12, 15, 20, 25, 30, 60)
_NEAR = 0.03  # of a size limit: files end at a whole group of frames before it
_ALIKE = 0.005
_JUST_BELOW = 0.1  # of a limit: hands stop there as often as anywhere, limits never

# Nats. Most neighbours are takes of their own; stopped by hand at a known limit is one case in a thousand.
_PRIOR, _COUNTS_ON, _MEETS = -3.0, 1.0, 2.0  # a counter that runs only while recording always meets
_AT_A_LIMIT, _AS_ANY, _AT_ONCE = 7.0, 4.0, -3.0
_SOUND = (-6.0, 6.5)
_CONTIGUOUS = 10.0
_SAME_S, _APART_S = 0.002, 0.02  # another microphone nearer to who speaks shifts 2 ms; a device that stops misses more
_DOUBTFUL = 4.0
_SEVERAL = 3  # files that ended alike: two may by chance, where one hand stops both
_NEVER_A_GAP = 3  # joints without one, and without a limit
_ENOUGH = 2.0  # of sound, or another device, where no limit was reached: next to nothing decides nothing


@dataclass(frozen=True, slots=True)
class Joint:
    """Two files of a source that may be one recording.

    Attributes
    ----------
    first, second : str
        Keys of the two files, as the caller names them.
    numbered : bool
        Whether their names count on by one.
    meets : bool or None
        Whether the end of one is the start of the next by a clock that is trusted; None where no clock tells.
    full : str
        Which limit the first ended at; empty when at none.
    known : bool
        Whether that is a limit of formats and file systems, rather than one that this source's files suggest.
    stands_still : bool
        Whether the source's counter seems to run only while it records: then that the two meet says nothing.
    at_once : bool
        Whether both bear one label, and no third file is just as long or none has sound: two devices may have been
        started, and stopped, together. Else it is a device that writes the label of the first part into all.
    """

    first: str
    second: str
    numbered: bool
    meets: bool | None
    full: str
    known: bool = False
    stands_still: bool = False
    at_once: bool = False


@dataclass(frozen=True, slots=True)
class Signs:
    """What a joint's sound says.

    Attributes
    ----------
    sound : float
        Nats that sound goes on across the joint; negative: that it breaks.
    gap_s : float or None
        Seconds between the two on a recording of another device that holds both ends; None where none was found.
    """

    sound: float = 0.0
    gap_s: float | None = None


@dataclass(frozen=True, slots=True)
class Run:
    """Recordings, in order, that are one; and why, for a person."""

    keys: tuple[str, ...]
    reason: str


def find_joints(recordings: Iterable[Filed]) -> list[Joint]:
    """Return the pairs of neighbours whose joint is worth looking at.

    Neighbours by name or by start, of one source and of one format, whose labels do not say that time lies between.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    """
    groups: dict[tuple[object, ...], list[Filed]] = {}
    for one in recordings:
        form = (one.source, one.path.rpartition("/")[0], one.kind, one.fps, one.sample_rate, one.channels)
        groups.setdefault(form, []).append(one)
    found = []
    for own in groups.values():
        # What was taken together before the rest came, or was listened to, goes on where its last part ends.
        parts = {one.key: _parts(one) for one in own}
        every = [part for each in parts.values() for part in each]
        limits, names, ready = _Limits(every), Names(part.stem for part in every), []
        for one, after in _neighbours(own, {key: names.place(each[0].stem) for key, each in parts.items()}):
            last, first = parts[one.key][-1], parts[after.key][0]
            full, known, alike = limits(last, first)
            numbered, meets = names.count_on(last.stem, first.stem), _meets(one, after)
            lone = alike < _SEVERAL or not one.channels  # cameras of a rig are as long as each other, take by take
            at_once = bool(one.start) and one.start == after.start and lone
            ready.append(Joint(one.key, after.key, numbered, meets, full, known, at_once=at_once))
        still = _stands_still(ready)
        found += [
            replace(joint, stands_still=still)
            for joint in ready
            if joint.meets is not False and (joint.meets or joint.numbered)
        ]
    return found


def _stands_still(joints: Sequence[Joint]) -> bool:
    """Say whether a source's counter runs only while it records: then the end of each take is the start of the next.

    Where it never leaves a gap, and no limit says why.
    """
    meet = sum(1 for one in joints if one.meets and not one.full)
    return meet >= _NEVER_A_GAP and not any(one.meets is False and one.numbered for one in joints)


def find_runs(
    joints: Sequence[Joint], signs: Mapping[tuple[str, str], Signs], apart: Collection[tuple[str, str]] = ()
) -> list[Run]:
    """Return the runs among joints.

    Parameters
    ----------
    joints : sequence of Joint
    signs : mapping
        What sound says of a joint, by its two keys; missing where there is none.
    apart : collection
        Joints that a person took apart: never made again.
    """
    reasons = {}
    for joint in joints:
        pair = (joint.first, joint.second)
        said = signs.get(pair, Signs())
        # Names that count on, or timecode that stands still between takes, are not enough: something else says so.
        if pair not in apart and weigh(joint, said) > (0 if joint.full else _ENOUGH):
            reasons[pair] = _why(joint, said)
    after = dict(iter(reasons))
    runs = []
    for start in [first for first in after if first not in set(after.values())]:
        keys = [start]
        while keys[-1] in after and after[keys[-1]] not in keys:
            keys.append(after[keys[-1]])
        said_why = Counter(reasons[pair] for pair in pairwise(keys))
        runs.append(Run(tuple(keys), "; ".join(said_why)))
    return runs


def weigh(joint: Joint, signs: Signs) -> float:
    """Return the evidence that two files are one recording, nats; negative: that they are two.

    Parameters
    ----------
    joint : Joint
        Two files that follow one another.
    signs : Signs
        What sound and another device say of it.
    """
    total = _PRIOR + min(max(signs.sound, _SOUND[0]), _SOUND[1])
    total += _COUNTS_ON if joint.numbered else 0.0
    total += _MEETS if joint.meets and not joint.stands_still else 0.0
    total += (_AT_A_LIMIT if joint.known else _AS_ANY) if joint.full else 0.0
    total += _AT_ONCE if joint.at_once else 0.0
    if signs.gap_s is not None:
        total += _CONTIGUOUS if abs(signs.gap_s) <= _SAME_S else -_CONTIGUOUS if abs(signs.gap_s) > _APART_S else 0.0
    return total


def is_doubtful(joint: Joint, signs: Signs) -> bool:
    """Say whether so little speaks for or against a joint that what another device recorded is worth looking up.

    Parameters
    ----------
    joint : Joint
        Two files that follow one another.
    signs : Signs
        What is known of it so far.
    """
    return abs(weigh(joint, signs)) < _DOUBTFUL


def _why(joint: Joint, signs: Signs) -> str:
    """Return for a person what speaks for a joint."""
    said = []
    if joint.meets and not joint.stands_still:
        said.append("the end of one is the start of the next by timecode")
    elif joint.numbered:
        said.append("their names count on")
    if joint.full:
        said.append(joint.full)
    if signs.sound > 1:
        said.append("their sound goes on across the joint")
    if signs.gap_s is not None and abs(signs.gap_s) <= _SAME_S:
        said.append("on another device's recording one follows the other without a gap")
    return ", ".join(said)


def _parts(one: Filed) -> tuple[Filed, ...]:
    """Return the parts that a run is made of, in order; another recording, and a set of tracks, is one."""
    lasts = sum((member.duration for member in one.members), Fraction(0))
    if not one.members or abs(lasts - one.duration) > Fraction(1, 10):
        return (one,)
    return tuple(part for member in one.members for part in _parts(member))


def _neighbours(own: list[Filed], places: Mapping[str, Any]) -> Iterator[tuple[Filed, Filed]]:
    """Yield each file with the next by place, as names count, and with the next by start where that is another."""
    by_name = sorted(own, key=lambda one: places[one.key])
    by_start = sorted((one for one in own if one.start is not None), key=lambda one: (one.start or 0, one.path))
    seen = set()
    for one, after in [*pairwise(by_name), *pairwise(by_start)]:
        if (one.key, after.key) not in seen:
            seen.add((one.key, after.key))
            yield one, after


def _meets(one: Filed, after: Filed) -> bool | None:
    if one.start is None or after.start is None or NONE in {one.clock, after.clock}:
        return None
    if one.start == after.start:
        return None  # each part restarts its counter, or bears the label of the first
    frame = 1 / (one.fps or Fraction(25))
    return abs(one.start + one.duration - after.start) <= frame


class _Limits:
    """At which size or length a source's files end when nobody stops them."""

    def __init__(self, own: list[Filed]) -> None:
        self._sizes, self._durations = sorted(one.size for one in own), sorted(one.duration for one in own)

    def __call__(self, one: Filed, after: Filed) -> tuple[str, bool, int]:
        """Return which limit `one` ended at, where `after` goes on (empty: none), whether it is known, how many did."""
        if any(abs(one.size - size) <= _NEAR * size for size in _SIZES):
            return f"it ends at {one.size / 1e9:.2f} GB, where files end", True, _SEVERAL
        frame = 1 / (one.fps or Fraction(25))
        if any(abs(one.duration - 60 * minutes) <= max(frame, Fraction(1, 50)) for minutes in _MINUTES):
            return f"it is just {duration(float(one.duration))} long", True, _SEVERAL
        # A limit nobody knows shows by itself: several files as long, or as large, as any, and none that ends just
        # below, as takes do that last as long as a song.
        longest, largest = self._durations[-1], self._sizes[-1]
        if one.duration >= longest - frame >= after.duration - 2 * frame:
            alike = _between(self._durations, one.duration - frame, one.duration + frame)
            if alike > 1 and not _between(self._durations, (1 - _JUST_BELOW) * longest, longest - 2 * frame):
                return f"{alike} files are just as long", False, alike
        if one.size >= (1 - _ALIKE) * largest:
            alike = _between(self._sizes, (1 - _ALIKE) * one.size, (1 + _ALIKE) * one.size)
            if alike > 1 and not _between(self._sizes, (1 - _JUST_BELOW) * largest, (1 - 2 * _ALIKE) * largest):
                return f"{alike} files are just as large", False, alike
        return "", False, 0


def _between(ordered: Sequence[Any], least: Any, most: Any) -> int:
    return bisect_right(ordered, most) - bisect_left(ordered, least)
