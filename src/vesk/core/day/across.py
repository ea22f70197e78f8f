"""Which two recordings of one kind are measured against each other, to close a loop with a third."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from vesk.core.day.day import Match
from vesk.core.day.solution import Solution

_LEAST_SHARED_S = 5.0
_EACH = 8  # loops of every two devices: what is wrong with a device is wrong in all of them


@dataclass(frozen=True, slots=True)
class Across:
    """Two recordings of one kind that heard the same, to be measured against each other.

    Attributes
    ----------
    one, other : str
        Keys.
    offset_s : float
        Where their pairings with a third lay the other on the one, seconds.
    """

    one: str
    other: str
    offset_s: float


def across_wanted(matches: Sequence[Match], solution: Solution) -> list[Across]:
    """Return which two of one kind that share moments with a third are to be measured against each other.

    A camera heard by another costs as much as one heard by a recorder, and says nothing of most takes that their
    clocks do not: so of every two devices the first loops, the last and some between, all that lead over a take
    which evidence of its own contradicts, and all of two devices where one of theirs does not close.

    Parameters
    ----------
    matches : sequence of Match
        Those that sound decided.
    solution : Solution
        The day's so far: who made what, what is contradicted, and which loops do not close.
    """
    of = solution.devices
    doubted = {
        key
        for place in solution.places.values()
        if place.contradiction is not None and len(place.contradiction.pairings) == 1
        for key in (place.picture, place.sound)
    }
    open_ = [{of.get(key, key) for key in loop.members} for loop in solution.open_loops]
    by_devices: dict[tuple[str, str], list[Across]] = {}
    for one in _sharing(matches):
        low, high = sorted((of.get(one.one, ""), of.get(one.other, "")))
        by_devices.setdefault((low, high), []).append(one)
    wanted: list[Across] = []
    for devices, every in sorted(by_devices.items()):
        every.sort(key=lambda one: sorted((one.one, one.other)))
        some = {round(n * (len(every) - 1) / (_EACH - 1)) for n in range(_EACH)}
        astray = any(own.issuperset(devices) for own in open_)
        wanted += [one for n, one in enumerate(every) if n in some or astray or {one.one, one.other} & doubted]
    return wanted


def _sharing(matches: Sequence[Match]) -> list[Across]:
    """Return every two of one kind that share moments with a third."""
    wanted: dict[tuple[str, str], Across] = {}
    by_key: dict[str, list[Match]] = {}
    for match in sorted(matches, key=lambda match: (match.picture, match.sound)):
        for key in (match.picture, match.sound):
            by_key.setdefault(key, []).append(match)
    for one, other in (pair for key in sorted(by_key) for pair in combinations(by_key[key], 2)):
        if one.sound == other.sound:
            begin = max(one.head_s - one.at_head_s, other.head_s - other.at_head_s)
            shared = min(one.tail_s - one.at_head_s, other.tail_s - other.at_head_s) - begin
            made = Across(one.picture, other.picture, one.at_head_s - other.at_head_s)
        else:
            shared = min(one.tail_s, other.tail_s) - max(one.head_s, other.head_s)
            made = Across(one.sound, other.sound, other.at_head_s - one.at_head_s)
        if made.offset_s < 0:  # whoever begins first comes first, whatever their names
            made = Across(made.other, made.one, -made.offset_s)
        if shared >= _LEAST_SHARED_S:
            wanted.setdefault((made.one, made.other), made)
    return list(wanted.values())
