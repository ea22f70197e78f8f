"""Files that are there twice: byte for byte, the same sound under other words, a smaller picture of the same take."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from vesk.core.intake.filed import Filed
from vesk.core.kinds import PICTURE, SOUND

# Why such a file is set aside, before which it copies.
SAME_FILE, SAME_SOUND, SMALLER = "the same file as", "the same sound as", "a smaller copy of"
_SILENT_DB = -100.0
_LEVEL_DB = 0.7  # coding a sound anew changes its level by less, but for what one channel laid on two loses on each
_SHARED_DB = 3.01
_ONE_IN = 4


@dataclass(frozen=True, slots=True)
class Copies:
    """Recordings that copy another, by key: the path of the one that stands for both, by how they are told."""

    same_file: Mapping[str, str]
    same_sound: Mapping[str, str]
    smaller: Mapping[str, str]


def find_copies(recordings: Sequence[Filed], decided: Collection[str] = ()) -> Copies:
    """Return which recordings copy another.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's, but for those that a person set aside: they stand for nothing.
    decided : collection of str
        Keys of those of which a person corrected or checked a take: whatever they copy, they stay.
    """
    found = (
        {key: of for key, of in find(recordings).items() if key not in decided}
        for find in (doubles, same_sounds, smaller_copies)
    )
    return Copies(*found)


def is_copy(aside: str) -> bool:
    """Say whether a recording is set aside for being a copy."""
    return aside.startswith((SAME_FILE, SAME_SOUND, SMALLER))


def doubles(recordings: Sequence[Filed]) -> dict[str, str]:
    """Return, for every recording that is another one's copy, the path of the one that stands for both.

    The one with the shorter path stands: copies get something added to their names.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    """
    by_content: dict[str, list[Filed]] = {}
    for one in recordings:
        if one.content:
            by_content.setdefault(one.content, []).append(one)
    found = {}
    for same in by_content.values():
        first, *rest = sorted(same, key=lambda one: (len(one.path), one.path))
        found.update({one.key: first.path for one in rest})
    return found


def same_sounds(recordings: Sequence[Filed]) -> dict[str, str]:
    """Return, for every sound that another file holds too, the path of the one that stands for both.

    A recorder writes to two cards, or all tracks to one file and each to its own, and what it says beside the sound
    differs: they begin on one label, are as long to the sample, and no channel's peak or level differs by a hundredth
    of a decibel. One that holds some channels of another is its copy, too: a mix on the second card.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's; until it was listened to, a sound is no copy.
    """
    alike: dict[tuple[object, ...], list[Filed]] = {}
    for one in recordings:
        if one.kind == SOUND and one.header is not None and one.samples and _heard(one):
            alike.setdefault((one.header, one.samples, one.sample_rate), []).append(one)
    found = {}
    for same in alike.values():
        stands: list[Filed] = []
        for one in sorted(same, key=lambda one: (-len(one.levels), len(one.path), one.path)):
            of = next((other for other in stands if _holds(other, one)), None)
            if of is None:
                stands.append(one)
            elif one.content != of.content or not one.content:
                found[one.key] = of.path
    return found


def _heard(one: Filed) -> list[tuple[float, float]]:
    """Return peak and level of each channel that is not silent."""
    return [(round(own.peak_db, 2), round(own.rms_db, 2)) for own in one.levels if own.rms_db > _SILENT_DB]


def _holds(other: Filed, one: Filed) -> bool:
    """Say whether every channel of a sound is one of another's.

    In one folder, two files of one channel or as many may be tracks of a take that carry the same.
    """
    apart = (
        _folder(one) != _folder(other) or len(one.levels) < len(other.levels) or len(one.members) != len(other.members)
    )
    return apart and not Counter(_heard(one)) - Counter(_heard(other))


def smaller_copies(recordings: Sequence[Filed]) -> dict[str, str]:
    """Return, for every picture that is a smaller copy of another, the path of the one that was shot.

    Cameras write a second, smaller picture of every take, and rooms make such copies: equal name, label, rate and
    length, the same sound coded anew. Two cameras that are started together have some of that, but not on every take:
    what is of one size in a folder is copies only as a whole, but for one in four.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's; until a picture's sound was listened to, it is no copy.
    """
    alike: dict[tuple[Fraction, Fraction], list[Filed]] = {}
    folders: dict[tuple[str, int], list[Filed]] = {}
    for one in recordings:
        if one.kind == PICTURE and one.header is not None and one.fps is not None:
            alike.setdefault((one.header, one.fps), []).append(one)
        if one.kind == PICTURE:
            folders.setdefault((_folder(one), one.pixels), []).append(one)
    found: dict[str, Filed] = {}
    for same in alike.values():
        for one in same:
            larger = [other for other in same if _is_copy(one, other)]
            if larger:
                found[one.key] = max(larger, key=lambda other: (other.pixels, other.path))
    return _of_whole_folders(found, folders)


def _of_whole_folders(found: Mapping[str, Filed], folders: Mapping[tuple[str, int], Sequence[Filed]]) -> dict[str, str]:
    """Return the copies in folders that hold little else of their size."""
    kept = {}
    for own in folders.values():
        copies = [(one, found[one.key]) for one in own if one.key in found]
        others = len(own) - len(copies)  # a copy may be all that is left of a take
        if copies and others * _ONE_IN <= len(copies) and _sound_alike(copies):
            kept.update({one.key: of.path for one, of in copies})
    return kept


def _is_copy(one: Filed, other: Filed) -> bool:
    """Say whether a picture is a smaller copy of another, as far as both tell alone."""
    a, b = one.stem.casefold(), other.stem.casefold()
    return (
        0 < one.pixels < other.pixels
        and (a.startswith(b) or b.startswith(a))
        and abs(one.duration - other.duration) * (one.fps or 0) <= 1
    )


def _sound_alike(copies: Sequence[tuple[Filed, Filed]]) -> bool:
    """Say whether copies are as much quieter than their originals on every take; without sound, whether they lie below.

    How loud two cameras are beside each other changes from take to take.
    """
    if all(not one.channels for one, _ in copies):
        return all(_folder(one).startswith(f"{_folder(of)}/") for one, of in copies)
    if not all(one.levels and of.levels for one, of in copies):
        return False
    for channel in range(min(len(of.levels) for _, of in copies)):
        quieter = [of.levels[channel].rms_db - one.levels[0].rms_db for one, of in copies]
        known = len(copies) > 1 or min(abs(quieter[0]), abs(quieter[0] - _SHARED_DB)) < _LEVEL_DB
        if known and max(quieter) - min(quieter) < _LEVEL_DB:
            return True
    return False


def _folder(one: Filed) -> str:
    return one.path.rpartition("/")[0]
