"""A camera's internal sound delay, from claps that it both heard and saw."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ClapPair:
    """One clap on a camera: heard at a moment of its own sound, contact seen between two exposures (seconds)."""

    heard_s: float
    seen_low_s: float
    seen_high_s: float


@dataclass(frozen=True, slots=True)
class SoundDelay:
    """How late a camera hears against its own picture.

    Attributes
    ----------
    low_s, high_s : float
        It lies between; positive is late. One clap gives a frame's width, several narrow it.
    agreeing, claps : int
        How many claps share that interval, of how many.
    """

    low_s: float
    high_s: float
    agreeing: int
    claps: int

    @property
    def middle_s(self) -> float:
        """The middle of the interval, seconds."""
        return (self.low_s + self.high_s) / 2


def sound_delay(claps: Sequence[ClapPair]) -> SoundDelay | None:
    """Intersect what every clap allows; a clap that fits none of the others is left out.

    Parameters
    ----------
    claps : sequence of ClapPair
        Each seen and heard by the camera itself.

    Examples
    --------
    >>> found = sound_delay([ClapPair(1.010, 0.96, 1.00), ClapPair(5.030, 4.96, 5.00)])
    >>> round(found.low_s, 3), round(found.high_s, 3), found.agreeing
    (0.03, 0.05, 2)
    """
    spans = [(clap.heard_s - clap.seen_high_s, clap.heard_s - clap.seen_low_s) for clap in claps]
    if not spans:
        return None
    best: SoundDelay | None = None
    for low, _ in spans:
        # The narrowest interval that most share begins where one of them begins.
        sharing = [(a, b) for a, b in spans if a <= low < b]
        found = SoundDelay(low, min(b for _, b in sharing), len(sharing), len(spans)) if sharing else None
        if found and (best is None or found.agreeing > best.agreeing):
            best = found
    return best
