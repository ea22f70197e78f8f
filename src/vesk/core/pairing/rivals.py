"""Pairings that cannot all be: one device makes one recording at a time, so two of its files cannot share a moment."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import combinations

COMPARABLE = 0.7  # a second that reaches this share of the first is as likely as it
_SAME_MOMENTS = 0.5  # of the shorter claim


@dataclass(frozen=True, slots=True)
class Claim:
    """A pairing that sound confirms, and which moments it takes for itself.

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


@dataclass(frozen=True, slots=True)
class Rivalry:
    """What speaks against a pairing: the other's key, and whether that other is clearly the better."""

    other: str
    better: bool


def rivalries(claims: Sequence[Claim]) -> dict[str, Rivalry]:
    """Find the pairings that claim moments which another one claims as well.

    Two files of one recorder over the same moments of a picture, or two files of one camera over the
    same moments of a sound: playback that two takes share, or other takes of the same lines.

    Returns
    -------
    dict of str to Rivalry
        For every pairing that has a rival, its strongest; the clearly better of two is not in it.
    """
    found: dict[str, Rivalry] = {}
    for one, other in _exclusive(claims):
        weak, strong = sorted((one, other), key=lambda claim: claim.strength)
        better = weak.strength < COMPARABLE * strong.strength
        found[weak.key] = Rivalry(strong.key, better)
        if not better:
            found.setdefault(strong.key, Rivalry(weak.key, better=False))
    return found


def _exclusive(claims: Sequence[Claim]) -> Iterable[tuple[Claim, Claim]]:
    for one, other in combinations(sorted(claims, key=lambda claim: claim.strength), 2):
        by_picture = one.picture == other.picture and one.sound_source == other.sound_source
        by_sound = one.sound == other.sound and one.picture_source == other.picture_source
        if by_picture and by_sound:
            continue
        span = _on_picture if by_picture else _on_sound
        if (by_picture or by_sound) and _meet(span(one), span(other)):
            yield one, other


def _on_picture(claim: Claim) -> tuple[float, float]:
    return claim.head_s, claim.tail_s


def _on_sound(claim: Claim) -> tuple[float, float]:
    return claim.head_s - claim.offset_s, claim.tail_s - claim.offset_s


def _meet(one: tuple[float, float], other: tuple[float, float]) -> bool:
    shared = min(one[1], other[1]) - max(one[0], other[0])
    return shared > _SAME_MOMENTS * min(one[1] - one[0], other[1] - other[0])
