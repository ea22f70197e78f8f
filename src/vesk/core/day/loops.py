"""Loops: chains of pairings that lead back to where they began. What does not add up is an error, whoever is right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from vesk.core.day.day import Match

_STEPS = 3


@dataclass(frozen=True, slots=True)
class Loop:
    """A closed chain of pairings.

    Attributes
    ----------
    members : tuple of str
        Keys of its recordings, in order: picture, sound, picture, sound; or two of one kind and one of the other.
    misclosure_s : float
        By how much later one comes back than one set out, seconds.
    se_s : float
        Standard error of that, by those of its pairings.
    """

    members: tuple[str, ...]
    misclosure_s: float
    se_s: float


def find_loops(matches: Sequence[Match], across: Sequence[Match] = ()) -> list[Loop]:
    """Return every loop of recordings that share moments, the worst first.

    Parameters
    ----------
    matches : sequence of Match
        Those that sound decided.
    across : sequence of Match
        Two pictures, or two sounds, measured against each other: the first in the place of the picture.
    """
    found = {(one.picture, one.sound): one for one in matches}
    sounds: dict[str, set[str]] = {}
    pictures: dict[str, set[str]] = {}
    for picture, sound in found:
        sounds.setdefault(picture, set()).add(sound)
        pictures.setdefault(sound, set()).add(picture)
    loops: list[Loop | None] = []
    # Only pictures that share two sounds with another lie on a loop of four.
    several = sorted(picture for picture, own in sounds.items() if len(own) > 1)
    for one, other in combinations(several, 2):
        for first, second in combinations(sorted(sounds[one] & sounds[other]), 2):
            loops.append(_close(found[one, first], found[other, first], found[other, second], found[one, second]))
    for link in across:
        heard = sorted(sounds.get(link.picture, set()) & sounds.get(link.sound, set()))
        loops += [_by_sound(link, found[link.picture, sound], found[link.sound, sound]) for sound in heard]
        seen = sorted(pictures.get(link.picture, set()) & pictures.get(link.sound, set()))
        loops += [_by_picture(link, found[picture, link.picture], found[picture, link.sound]) for picture in seen]
    return sorted((loop for loop in loops if loop is not None), key=lambda loop: -abs(loop.misclosure_s))


def suspects(loops: Sequence[Loop], open_ones: Sequence[Loop]) -> dict[tuple[str, ...], str]:
    """Return which recording of each loop that does not close is to be looked at first, by the loop's members.

    The one that most such loops lead over, less those that close over it; empty where no one stands out.

    Parameters
    ----------
    loops, open_ones : sequence of Loop
        All, and those that do not close.
    """
    is_open = {one.members for one in open_ones}
    score: dict[str, int] = {}
    for one in loops:
        for key in one.members:
            score[key] = score.get(key, 0) + (1 if one.members in is_open else -1)
    found = {}
    for one in open_ones:
        ranked = sorted(one.members, key=lambda key: -score[key])
        found[one.members] = ranked[0] if score[ranked[0]] > score[ranked[1]] else ""
    return found


def _by_sound(link: Match, one: Match, other: Match) -> Loop | None:
    """Go from a picture over a sound to another picture, and from that back, as the two heard each other."""
    at = (max(link.head_s, one.head_s) + min(link.tail_s, one.tail_s)) / 2
    if not (link.head_s <= at <= link.tail_s and one.head_s <= at <= one.tail_s):
        return None
    beside = at - link.heard_s(at)
    if not other.head_s <= beside <= other.tail_s:
        return None
    apart = (at - one.heard_s(at)) - (beside - other.heard_s(beside))
    return Loop((one.picture, one.sound, other.picture), apart, _error(link, one, other))


def _by_picture(link: Match, one: Match, other: Match) -> Loop | None:
    """Go from a sound over a picture to another sound, and from that back, as the two heard each other."""
    at = (link.head_s + link.tail_s) / 2
    first, second = _on_picture(one, at), _on_picture(other, at - link.heard_s(at))
    if not (one.head_s <= first <= one.tail_s and other.head_s <= second <= other.tail_s):
        return None
    return Loop((one.sound, one.picture, other.sound), first - second, _error(link, one, other))


def _error(*chain: Match) -> float:
    return float(sum(one.se_s**2 for one in chain) ** 0.5)


def _close(there: Match, across: Match, back: Match, home: Match) -> Loop | None:
    """Go from a picture over a sound, another picture and another sound back; None where they share no moment."""
    begin = max(there.head_s, home.head_s)
    end = min(there.tail_s, home.tail_s)
    if end <= begin:
        return None
    at = (begin + end) / 2
    other = _on_picture(across, at - there.heard_s(at))
    if not (across.head_s <= other <= across.tail_s and back.head_s <= other <= back.tail_s):
        return None
    returned = _on_picture(home, other - back.heard_s(other))
    members = (there.picture, there.sound, across.picture, back.sound)
    return Loop(members, returned - at, _error(there, across, back, home))


def _on_picture(match: Match, sound_s: float) -> float:
    """Return the picture time of a moment of the sound."""
    at = sound_s + match.at_head_s
    for _ in range(_STEPS):  # the offset drifts by millionths
        at = sound_s + match.heard_s(at)
    return at
