"""Sets: files of one take by one device that are one recording: a recorder's tracks, a picture and its own sound."""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass

from vesk.core.intake.filed import Filed
from vesk.core.intake.own_sound import own_sounds

_TRACK = re.compile(r"(.+?)(?:[ _.\-]+|[ _.\-]*(?:ch|trk?|track)[ _.\-]*)(\d{1,2}|[LR])", re.IGNORECASE | re.DOTALL)
# What recorders put behind a take's name where they write several files of it: a mix, a track, or what is kept at a
# lower level, for where the other is too loud.
_PART = re.compile(
    r"(?P<take>.+?)[ _.\-]+(?P<part>(?P<mix>LR|MS|XY|ST|stereo|mix)|(?P<left>L)|(?P<right>R)"
    r"|(?:ch|trk?|track|in|input|iso)[ _.\-]*(?P<track>\d{1,2})(?:[ _\-]?\d{1,2})?"
    r"|(?P<lower>D|safety|backup|-?\d{1,2} ?dB))",
    re.IGNORECASE | re.DOTALL,
)


@dataclass(frozen=True, slots=True)
class TrackSet:
    """Recordings, in the order of their tracks, that are one take; and why, for a person."""

    keys: tuple[str, ...]
    reason: str


def find_sets(recordings: Iterable[Filed]) -> list[TrackSet]:
    """Return the sets among a day's files.

    Pictures without sound, each with the files that its camera wrote that to. Sound files of one folder and source,
    from one label where they have any: those whose names tell which mix or track of a take they are, as long as each
    other to the sample; of one track each, those that are one family by their iXML, or one take by their names; where
    no pattern reads the names, those that differ in their last number alone, start at a label that is not zero, and
    are as long as each other.

    Parameters
    ----------
    recordings : sequence of Filed
        The day's.
    """
    every = list(recordings)
    beside = own_sounds(every)
    theirs = "a picture and its own sound, by their names and length"
    found = [TrackSet((picture, *own), theirs) for picture, own in beside.items()]
    used = {key for own in beside.values() for key in own}
    files = [one for one in every if one.kind == "sound" and one.channels and one.key not in used]
    whole = [one for one in _grouped(files, _as_long, _place) if any(_PART.fullmatch(file.stem) for file in one[1])]
    taken = {file.key for _, own in whole for file in own}
    rest = [one for one in files if one.key not in taken and one.channels == 1]
    for (why, *_), own in [*whole, *_grouped(rest, _as_named, _by_track)]:
        label = own[0].header
        found.append(TrackSet(tuple(one.key for one in own), f"{why}, all from the same label" if label else str(why)))
    return found


def _grouped(
    files: Iterable[Filed],
    key_of: Callable[[Filed], tuple[Hashable, ...]],
    place_of: Callable[[Filed], tuple[int, str, str]],
) -> list[tuple[tuple[Hashable, ...], list[Filed]]]:
    """Return files that belong together by a key, in their order, where no place is taken twice."""
    groups: dict[tuple[Hashable, ...], list[Filed]] = {}
    for one in files:
        if key := key_of(one):
            folder = one.path.rpartition("/")[0]
            groups.setdefault((*key, one.source, folder, one.sample_rate, one.header), []).append(one)
    found = []
    for key, own in groups.items():
        own.sort(key=place_of)
        if len(own) > 1 and len({place_of(one)[:2] for one in own}) == len(own):
            found.append((key, own))
    return found


def _as_long(one: Filed) -> tuple[Hashable, ...]:
    part = _PART.fullmatch(one.stem)
    take = part["take"] if part else one.stem
    return ("tracks of one take by their names, as long as each other to the sample", take, one.samples)


def _place(one: Filed) -> tuple[int, str, str]:
    """Return where a file stands among its take's: what is mixed, tracks as they count, what is at a lower level."""
    part = _PART.fullmatch(one.stem)
    if not part or part["mix"]:
        return (-2, part["part"].lower() if part else "", one.path)
    if part["track"]:
        return (int(part["track"]), part["part"].lower(), one.path)
    return (-1 if part["left"] or part["right"] else 100, part["part"].lower(), one.path)


def _as_named(one: Filed) -> tuple[Hashable, ...]:
    tokens, plain = one.tokens, _TRACK.fullmatch(one.stem)
    if one.family:
        return ("one family by their iXML", one.family)
    if tokens.get("track"):
        return ("one take by their names", tokens.get("scene"), tokens.get("take"), tokens.get("roll"))
    if plain and one.header and not tokens.get("take") and not tokens.get("clip"):
        return ("names that differ in their track alone", plain[1], one.samples)
    return ()


def part_of(stem: str) -> str:
    """Return what a file's name says it is of its take, as written: ``Tr1``, ``LR``; empty when it says nothing.

    Examples
    --------
    >>> part_of("270319_004_Tr2"), part_of("270319_004 LR"), part_of("31A_02")
    ('Tr2', 'LR', '')
    """
    part = _PART.fullmatch(stem)
    return part["part"] if part else ""


def track_of(one: Filed) -> str:
    """Return which track of its set a file is: by its iXML, else by its name; empty when neither says.

    Parameters
    ----------
    one : Filed
        A file of one track.
    """
    if one.family_index:
        return one.family_index
    plain = _TRACK.fullmatch(one.stem)
    return one.tokens.get("track") or (plain[2] if plain else "")


def _by_track(one: Filed) -> tuple[int, str, str]:
    track = track_of(one)
    return (int(track) if track.isdecimal() else {"L": 0, "R": 1}.get(track.upper(), 99), track, one.path)
