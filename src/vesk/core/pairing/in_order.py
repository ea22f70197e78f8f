"""Which of several takes that sound matched is right, told by the order in which a device made its files.

A camera without a clock still counts its files. Where those before and after one belong to known moments, a place
outside these is another take of the same song.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.day.recording import stem_of
from vesk.core.intake.counting import Names
from vesk.core.pairing.rivals import Claim, Displaced, Rivalry, rivalries

_LEAST_KNOWN = 3  # files whose moments are known, in the order of their names, for each that is not
_SLACK_S = 2.0  # by which clocks that were jammed together may be apart
_TURN_S = 1e6  # from one file to the next, where only their turn is known
_LAST_NUMBER = re.compile(r"\d+(?=\D*$)")


@dataclass(frozen=True, slots=True)
class _Placed:
    """A claim of a file that has no clock: which file that is, and when it would run by its partner's clock."""

    claim: Claim
    file: str
    begins_s: float
    ends_s: float

    def before(self, other: _Placed) -> bool:
        """Say whether one device can have made this one, and then another."""
        return self.begins_s < other.begins_s and self.ends_s < other.begins_s + _SLACK_S


@dataclass(frozen=True, slots=True)
class _Side:
    """One end of a claim: the file, what counts it (device, folder, name without its number), and its partner."""

    claim: Claim
    file: str
    counted: tuple[str, str, str]
    partner: str
    partner_counted: tuple[str, str, str]
    partner_start: Fraction | None

    def placed(self, partner_begins_s: float) -> _Placed:
        """Return when the file would run if its partner began then."""
        claim = self.claim
        if self.file == claim.picture:
            begins = partner_begins_s - claim.offset_s
            return _Placed(claim, self.file, begins, begins + claim.tail_s)
        begins = partner_begins_s + claim.offset_s
        return _Placed(claim, self.file, begins, begins + claim.tail_s - claim.offset_s)


def rivalries_in_order(
    claims: Sequence[Claim], two_devices: Collection[frozenset[str]], paths: Mapping[str, str]
) -> dict[str, Rivalry]:
    """Find the pairings that claim moments which another one claims as well, and settle those that are out of order.

    Parameters
    ----------
    claims : sequence of Claim
        What sound confirms, and what it leaves open.
    two_devices : collection of frozenset
        As of `rivalries`.
    paths : mapping of str to str
        Of recordings, by key: names count on within a folder.
    """
    out: dict[str, tuple[str, str]] = {}
    while True:
        left = [one for one in claims if one.key not in out]
        found = rivalries(left, two_devices)
        news = {
            one.claim.key: (one.file, _other_source(one))
            for own in _groups(left, paths)
            for one in _out_of_order(own, found, paths)
        }
        if not news:
            break
        out |= news
    sure = {}
    for one in left:
        if one.key not in found and not one.is_open:
            sure[one.picture, one.sound_source] = sure[one.sound, one.picture_source] = one.key
    return found | {
        key: Rivalry(sure.get(place, ""), better=True, settled=Displaced.ORDER) for key, place in out.items()
    }


def _groups(claims: Sequence[Claim], paths: Mapping[str, str]) -> list[list[_Placed]]:
    """Return the claims of files without a clock, by what counts them and whose clock, or count, tells when they began.

    Where partners have no clock either, each in its turn tells: one after the other, whenever that was.
    """
    groups: dict[tuple[object, ...], list[_Side]] = {}
    for claim in claims:
        picture = _counted(claim.picture_source, paths[claim.picture])
        sound = _counted(claim.sound_source, paths[claim.sound])
        for side in (
            _Side(claim, claim.picture, picture, claim.sound, sound, claim.sound_start),
            _Side(claim, claim.sound, sound, claim.picture, picture, claim.picture_start),
        ):
            if (claim.picture_start if side.file == claim.picture else claim.sound_start) is None:
                groups.setdefault((side.counted, side.partner_counted[0]), []).append(side)
    found = []
    for own in groups.values():
        starts = {one.partner: one.partner_start for one in own}
        begins = {partner: float(start) for partner, start in starts.items() if start is not None}
        if len(begins) < len(starts):
            if len({one.partner_counted for one in own}) > 1:
                continue  # two cards, of which no clock tells which was first
            begins = {partner: _TURN_S * place for place, partner in enumerate(_in_turn(starts, paths))}
        found.append([one.placed(begins[one.partner]) for one in own])
    return found


def _counted(source: str, path: str) -> tuple[str, str, str]:
    folder = path.rpartition("/")[0]
    return source, folder, _LAST_NUMBER.sub("", stem_of(path))  # two cameras filed as one count each for itself


def _in_turn(files: Iterable[str], paths: Mapping[str, str]) -> list[str]:
    """Return files as their names count."""
    stems = {file: stem_of(paths[file]) for file in files}
    names = Names(stems.values())
    return sorted(stems, key=lambda file: names.place(stems[file]))


def _other_source(placed: _Placed) -> str:
    claim = placed.claim
    return claim.sound_source if placed.file == claim.picture else claim.picture_source


def _out_of_order(placed: Sequence[_Placed], rivals: Mapping[str, Rivalry], paths: Mapping[str, str]) -> list[_Placed]:
    """Return the places, among rivals, that the files before and after do not leave room for."""
    if not any(one.claim.key in rivals or one.claim.is_open for one in placed):
        return []
    files = _in_turn({one.file for one in placed}, paths)
    own = {file: [one for one in placed if one.file == file] for file in files}
    single = {file: its[0] for file, its in own.items() if len(its) == 1 and not its[0].claim.is_open}
    known = [(rank, single[file]) for rank, file in enumerate(files) if file in single]
    sure, strange = _longest_row([one for _, one in known])
    found = [known[at][1] for at in strange]
    # What nothing rivals and is out of order all the same: names begin anew there, or a clock was set back.
    if len(sure) < _LEAST_KNOWN * max(1, len(strange)) or any(one.claim.key not in rivals for one in found):
        return []
    for rank, file in enumerate(files):
        if file in single:
            continue
        before = [one for other, one in (known[at] for at in sure) if other < rank]
        after = [one for other, one in (known[at] for at in sure) if other > rank]
        found += [
            one
            for one in own[file]
            if not (all(each.before(one) for each in before[-1:]) and all(one.before(each) for each in after[:1]))
        ]
    return [one for one in found if one.claim.key in rivals or one.claim.is_open]


def _longest_row(placed: Sequence[_Placed]) -> tuple[list[int], list[int]]:
    """Return which of some places are in every longest row of them, one after the other in time, and which in none."""
    before = [0] * len(placed)
    for at, one in enumerate(placed):
        before[at] = 1 + max((before[n] for n in range(at) if placed[n].before(one)), default=0)
    after = [0] * len(placed)
    for at in range(len(placed) - 1, -1, -1):
        later = range(at + 1, len(placed))
        after[at] = 1 + max((after[n] for n in later if placed[at].before(placed[n])), default=0)
    longest = max(before, default=0)
    within = [one + other - 1 == longest for one, other in zip(before, after, strict=True)]
    alike = Counter(one for one, inside in zip(before, within, strict=True) if inside)
    every = [at for at, inside in enumerate(within) if inside and alike[before[at]] == 1]
    return every, [at for at, inside in enumerate(within) if not inside]
