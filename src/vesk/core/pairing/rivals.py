"""Pairings that cannot all be: one device makes one recording at a time, so two of its files cannot share a moment."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from itertools import combinations

COMPARABLE = 0.7  # a second that reaches this share of the first is as likely as it
_SAME_MOMENTS = 0.5  # of the shorter claim
_LABELS_S = 1.0  # clocks of two devices that were jammed together
_DAY_S = 86_400.0
_LEAST_TOGETHER, _MOST_DEVICES = 1 / 3, 5  # of a folder's files; that one folder may hold


@dataclass(frozen=True, slots=True)
class Claim:
    """A pairing that sound confirms, or leaves open, and which moments it takes for itself.

    Attributes
    ----------
    key : str
        Names the pairing to the caller.
    picture, sound : str
        The two recordings.
    picture_source, sound_source : str
        Their devices.
    head_s, tail_s : float
        Picture times of what they share.
    offset_s : float
        Picture time of sound sample 0.
    strength : float
        Of the agreement: minus log10 of its false-alarm probability.
    picture_start, sound_start : Fraction or None
        By the clocks that are trusted, real seconds on the day's label clock; None where there is none.
    is_open : bool
        Whether sound left it open: it takes nothing from others then.
    """

    key: str
    picture: str
    sound: str
    picture_source: str
    sound_source: str
    head_s: float
    tail_s: float
    offset_s: float
    strength: float
    picture_start: Fraction | None = None
    sound_start: Fraction | None = None
    is_open: bool = False


@dataclass(frozen=True, slots=True)
class Shared:
    """Two recordings filed as one device's that are laid on the same moments.

    Attributes
    ----------
    one, other : str
        The recordings.
    offset_s : float
        Where the other's first sample lies on the first, seconds, if both heard these moments.
    """

    one: str
    other: str
    offset_s: float

    @property
    def pair(self) -> frozenset[str]:
        """Both."""
        return frozenset((self.one, self.other))


class Displaced(StrEnum):
    """Why a pairing that sound refused, or that it matched as well as another, is none, in words."""

    OTHER_DAY = "its two files are of different days"
    ASTRAY = "sound refused it and labels alone lay it here"
    CLOCKS = "sound refused it, and the clocks of its devices lay the two apart"
    ORDER = "the files before and after it belong to other times"
    OTHER_TIME = "the clocks of its devices lay the two apart"


@dataclass(frozen=True, slots=True)
class Rivalry:
    """What speaks against a pairing: the other's key, whether that is clearly the better, and what settles it.

    Where clocks alone speak against it, there is no other.
    """

    other: str
    better: bool
    settled: Displaced | None = None


def rivalries(claims: Sequence[Claim], two_devices: Collection[frozenset[str]] = ()) -> dict[str, Rivalry]:
    """Find the pairings that claim moments which another one claims as well.

    Two files of one recorder over the same moments of a picture, or two files of one camera over the
    same moments of a sound: playback that two takes share, or other takes of the same lines. Two whose labels
    overlap just so were made by two devices filed as one, and are no rivals.

    Parameters
    ----------
    claims : sequence of Claim
    two_devices : collection of frozenset
        Pairs of recordings whose own sound told that both heard the same moments: `to_compare`.

    Returns
    -------
    dict of str to Rivalry
        For every pairing that has a rival, its strongest; the clearly better of two is not in it.
    """
    found: dict[str, Rivalry] = {}
    two = _of_devices(two_devices, [one for one in claims if not one.is_open])
    for one, other, shared in _exclusive(claims):
        if shared.pair in two:
            continue
        weak, strong = sorted((one, other), key=lambda claim: claim.strength)
        better = weak.strength < COMPARABLE * strong.strength
        found[weak.key] = Rivalry(strong.key, better)
        if not better:
            found.setdefault(strong.key, Rivalry(weak.key, better=False))
    return found


def _of_devices(pairs: Collection[frozenset[str]], claims: Sequence[Claim]) -> set[frozenset[str]]:
    """Return which recordings that seem to have heard the same moments are two devices', filed as one.

    Where two are, they were together in many takes, and each file with few others; takes of one playback seem so too,
    one with another by chance or all with all.
    """
    filed: dict[str, str] = {}
    for claim in claims:
        filed[claim.picture], filed[claim.sound] = claim.picture_source, claim.sound_source
    files, beside = Counter(filed.values()), Counter(key for pair in pairs for key in pair if key in filed)
    together, most = Counter(filed[key] for key in beside), dict.fromkeys(files, 0)
    for key, count in beside.items():
        most[filed[key]] = max(most[filed[key]], count)
    filed_as_one = {
        source
        for source in files
        if together[source] >= _LEAST_TOGETHER * files[source] and most[source] < _MOST_DEVICES
    }
    return {pair for pair in pairs if all(filed.get(key) in filed_as_one for key in pair)}


def displaced(
    refused: Sequence[Claim],
    claims: Sequence[Claim],
    rivals: Mapping[str, Rivalry],
    other_days: Mapping[str, Hashable],
) -> dict[str, Rivalry]:
    """Find the pairings by label alone, heard to share nothing, whose place another file of that device has.

    A recording was made on one day: of two files of one device that were made on different days, only one can belong
    to it, wherever their labels lie, and sound says which does. And one device makes one recording at a time: where
    sound lays one of its files on moments of a picture, a label that lays another there is wrong, as those of a whole
    card are whose clock was set wrong.

    Parameters
    ----------
    refused : sequence of Claim
        In which sound was heard on both sides, and nothing common; where their labels lay them.
    claims : sequence of Claim
        What sound confirms.
    rivals : mapping of str to Rivalry
        What speaks against these.
    other_days : mapping of str to hashable
        When recordings of another day were made, by key.

    Returns
    -------
    dict of str to Rivalry
        For each of them, what takes its moments.
    """
    taken: dict[tuple[str, str], list[Claim]] = {}
    for claim in claims:
        if claim.key not in rivals and not claim.is_open:
            taken.setdefault((claim.picture, claim.sound_source), []).append(claim)
            taken.setdefault((claim.sound, claim.picture_source), []).append(claim)
    found: dict[str, Rivalry] = {}
    for one in refused:
        by_picture = taken.get((one.picture, one.sound_source), ())
        by_sound = taken.get((one.sound, one.picture_source), ())
        beside = [(one.sound, other.sound, other) for other in by_picture]
        beside += [(one.picture, other.picture, other) for other in by_sound]
        for own, theirs, other in beside:
            if other_days.get(own) != other_days.get(theirs):
                found[one.key] = Rivalry(other.key, better=True, settled=Displaced.OTHER_DAY)
        # By its picture only: one that sound lays nowhere waits for somebody, whoever else belongs to its partner.
        astray = [other for other in by_picture if _excludes(other, one)]
        if astray and one.key not in found:
            found[one.key] = Rivalry(astray[0].key, better=True, settled=Displaced.ASTRAY)
    return found


def parted(
    refused: Sequence[Claim],
    open_ones: Mapping[str, tuple[str, str]],
    apart: Collection[tuple[str, str]],
    rivals: Mapping[str, Rivalry],
) -> dict[str, Rivalry]:
    """Find the pairings that sound did not decide, and that the solved clocks of a day lay apart.

    A recorder ten minutes off lays beside every picture what was said ten minutes earlier; where nobody recorded the
    picture, no other file belongs there, but the clock that its other takes tell says as well that this one does not.
    A picture that nobody recorded fits every take of the song that was played; its clock says that it is none of them.

    Parameters
    ----------
    refused : sequence of Claim
        By label alone, heard to share nothing: as of `displaced`.
    open_ones : mapping of str to (str, str)
        Picture and sound of the pairings that sound left open, by key.
    apart : collection of (str, str)
        Pictures and sounds that the day's solution lays apart.
    rivals : mapping of str to Rivalry
        What speaks against pairings otherwise.
    """
    found = {
        one.key: Rivalry("", better=True, settled=Displaced.CLOCKS)
        for one in refused
        if (one.picture, one.sound) in apart and one.key not in rivals
    }
    for key, pair in open_ones.items():
        if pair in apart and (key not in rivals or rivals[key].settled is None):
            found[key] = Rivalry("", better=True, settled=Displaced.OTHER_TIME)
    return found


def _excludes(sure: Claim, by_label: Claim) -> bool:
    """Say whether a device that made the one cannot have made the other: both on the same moments of a picture.

    Without a label of both nothing says that one device made them one after the other.
    """
    if sure.sound_start is None or by_label.sound_start is None:
        return False
    apart = by_label.offset_s - sure.offset_s
    agree = _labels_agree(sure.sound_start, by_label.sound_start, apart)
    return not agree and _meet(_on_picture(sure), _on_picture(by_label))


def to_compare(claims: Sequence[Claim]) -> list[Shared]:
    """Return the pairs of recordings whose own sound tells whether rivals are two devices, each pair once.

    Where the two heard the same moments, they match each other along the line that both pairings give; two takes of
    one device that only share a playback do not.

    Parameters
    ----------
    claims : sequence of Claim
        All that sound confirms on a day.
    """
    return list({shared.pair: shared for _, _, shared in _exclusive(claims)}.values())


def _exclusive(claims: Sequence[Claim]) -> Iterable[tuple[Claim, Claim, Shared]]:
    ranked = sorted((one for one in claims if not one.is_open), key=lambda claim: claim.strength)
    groups: dict[tuple[str, str, str], list[Claim]] = {}
    for claim in ranked:
        groups.setdefault(("picture", claim.picture, claim.sound_source), []).append(claim)
        groups.setdefault(("sound", claim.sound, claim.picture_source), []).append(claim)
    found = [(kind == "picture", *pair) for (kind, *_), own in groups.items() for pair in combinations(own, 2)]
    for by_picture, one, other in sorted(found, key=lambda item: (item[1].strength, item[2].strength)):
        if (one.picture, one.sound) == (other.picture, other.sound):
            continue
        span = _on_picture if by_picture else _on_sound
        if not _meet(span(one), span(other)):
            continue
        if by_picture:
            shared = Shared(one.sound, other.sound, other.offset_s - one.offset_s)
            labels = one.sound_start, other.sound_start
        else:
            shared = Shared(one.picture, other.picture, one.offset_s - other.offset_s)
            labels = one.picture_start, other.picture_start
        if not _labels_agree(*labels, shared.offset_s):
            yield one, other, shared


def _labels_agree(one: Fraction | None, other: Fraction | None, offset_s: float) -> bool:
    """Say whether labels lay two recordings as the sound does: one device cannot write them at one time."""
    if one is None or other is None:
        return False
    apart = abs(float(other - one) - offset_s) % _DAY_S
    return min(apart, _DAY_S - apart) < _LABELS_S


def _on_picture(claim: Claim) -> tuple[float, float]:
    return claim.head_s, claim.tail_s


def _on_sound(claim: Claim) -> tuple[float, float]:
    return claim.head_s - claim.offset_s, claim.tail_s - claim.offset_s


def _meet(one: tuple[float, float], other: tuple[float, float]) -> bool:
    shared = min(one[1], other[1]) - max(one[0], other[0])
    return shared > _SAME_MOMENTS * min(one[1] - one[0], other[1] - other[0])
