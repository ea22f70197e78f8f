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
        Keys of its recordings, in order: picture, sound, picture, sound.
    misclosure_s : float
        By how much later one comes back than one set out, seconds.
    se_s : float
        Standard error of that, by those of its pairings.
    """

    members: tuple[str, str, str, str]
    misclosure_s: float
    se_s: float


def find_loops(matches: Sequence[Match]) -> list[Loop]:
    """Return every loop of two pictures and two sounds that share moments, the worst first.

    Parameters
    ----------
    matches : sequence of Match
        Those that sound decided.
    """
    found = {(one.picture, one.sound): one for one in matches}
    sounds: dict[str, set[str]] = {}
    for picture, sound in found:
        sounds.setdefault(picture, set()).add(sound)
    loops = []
    # Only pictures that share two sounds with another lie on a loop.
    several = sorted(picture for picture, own in sounds.items() if len(own) > 1)
    for one, other in combinations(several, 2):
        for first, second in combinations(sorted(sounds[one] & sounds[other]), 2):
            loop = _close(found[one, first], found[other, first], found[other, second], found[one, second])
            if loop is not None:
                loops.append(loop)
    return sorted(loops, key=lambda loop: -abs(loop.misclosure_s))


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
    chain = (there, across, back, home)
    members = (there.picture, there.sound, across.picture, back.sound)
    return Loop(members, returned - at, sum(one.se_s**2 for one in chain) ** 0.5)


def _on_picture(match: Match, sound_s: float) -> float:
    """Return the picture time of a moment of the sound."""
    at = sound_s + match.at_head_s
    for _ in range(_STEPS):  # the offset drifts by millionths
        at = sound_s + match.heard_s(at)
    return at
