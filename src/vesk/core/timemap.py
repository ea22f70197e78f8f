"""Maps from one recording's time to another's: affine, and exact.

A map takes *source seconds* (samples over the nominal sample rate) to *target
seconds* (picture time). A recorder with a rate error of `ppm` against the
camera has ``rate = 1 / (1 + ppm * 1e-6)`` target seconds a source second.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.errors import TimeMapError

MILLION = 1_000_000


@dataclass(frozen=True, slots=True)
class TimeMap:
    """Target time ``offset + rate * source``, both in seconds, exact.

    Parameters
    ----------
    offset : Fraction
        Target time at which source time 0 belongs, seconds. Positive: the source starts later.
    rate : Fraction
        Target seconds per source second; positive.
    """

    offset: Fraction
    rate: Fraction = Fraction(1)

    def __post_init__(self) -> None:
        if self.rate <= 0:
            raise TimeMapError(f"a map's rate is positive, not {self.rate}")

    @classmethod
    def with_ppm(cls, offset: Fraction, ppm: Fraction, *, anchor: Fraction = Fraction(0)) -> TimeMap:
        """Build the map of a source whose clock runs `ppm` fast.

        `anchor` (source seconds) is the moment that `offset` alone would place;
        the rate change turns about it.
        """
        rate = 1 / (1 + ppm / MILLION)
        return cls(offset + anchor - anchor * rate, rate)

    @property
    def ppm(self) -> Fraction:
        """Rate error of the source in parts per million; positive when its clock is fast."""
        return (1 / self.rate - 1) * MILLION

    def __call__(self, source: Fraction) -> Fraction:
        """Return the target time of a source time, seconds."""
        return self.offset + self.rate * source

    def inverse(self) -> TimeMap:
        """Return the map from target back to source."""
        return TimeMap(-self.offset / self.rate, 1 / self.rate)

    def after(self, first: TimeMap) -> TimeMap:
        """Return the composition: `first`, then this map.

        Examples
        --------
        >>> a, b = TimeMap(Fraction(2), Fraction(3)), TimeMap(Fraction(5))
        >>> a.after(b)(Fraction(1))
        Fraction(20, 1)
        """
        return TimeMap(self(first.offset), self.rate * first.rate)

    def shifted(self, seconds: Fraction) -> TimeMap:
        """Return this map with its target moved later by `seconds`."""
        return TimeMap(self.offset + seconds, self.rate)


def exact_seconds(value: float, *, digits: int = 9) -> Fraction:
    """Round a measured time to a decimal fraction, to be exact from here on."""
    return Fraction(round(value * 10**digits), 10**digits)
