"""Maps from one recording's time to another's: affine, and exact.

A map takes *source seconds* (samples over the nominal sample rate) to *target
seconds* (picture time). A recorder with a rate error of `ppm` against the
camera has ``rate = 1 / (1 + ppm * 1e-6)`` target seconds a source second.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

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

    def from_source(self, seconds: Fraction) -> TimeMap:
        """Return the map of what the source is from `seconds` on: a file of a run."""
        return TimeMap(self(seconds), self.rate)


@dataclass(frozen=True, slots=True)
class PiecewiseMap:
    """A map with jumps: where the source lost or doubled samples, its target steps.

    Parameters
    ----------
    first : TimeMap
        Holds up to the first jump.
    jumps : tuple of (Fraction, Fraction)
        Source time and step of the target, seconds, in the order of time. A positive step is a
        loss: the target goes on later. A negative one is a doubling: it goes back.
    """

    first: TimeMap
    jumps: tuple[tuple[Fraction, Fraction], ...] = ()

    def __post_init__(self) -> None:
        times = [at for at, _ in self.jumps]
        if times != sorted(times):
            raise TimeMapError("jumps stand in the order of time")

    @property
    def offset(self) -> Fraction:
        """Target time of source time 0 by the map before the first jump."""
        return self.first.offset

    @property
    def rate(self) -> Fraction:
        """Target seconds per source second, the same throughout."""
        return self.first.rate

    @property
    def ppm(self) -> Fraction:
        """Rate error of the source in parts per million."""
        return self.first.ppm

    def pieces(self) -> list[tuple[Fraction | None, Fraction | None, TimeMap]]:
        """Return (source from, source to, map) of every stretch; None is open."""
        edges = [None, *(at for at, _ in self.jumps), None]
        made, step = [], Fraction(0)
        for number, (low, high) in enumerate(pairwise(edges)):
            step += self.jumps[number - 1][1] if number else Fraction(0)
            made.append((low, high, self.first.shifted(step)))
        return made

    def __call__(self, source: Fraction) -> Fraction:
        """Return the target time of a source time, seconds; at a jump, where the source goes on."""
        return self.first(source) + sum((step for at, step in self.jumps if source >= at), Fraction(0))

    def shifted(self, seconds: Fraction) -> PiecewiseMap:
        """Return this map with its target moved later by `seconds`."""
        return PiecewiseMap(self.first.shifted(seconds), self.jumps)

    def from_source(self, seconds: Fraction) -> AnyMap:
        """Return the map of what the source is from `seconds` on: a file of a run."""
        past = sum((step for at, step in self.jumps if at <= seconds), Fraction(0))
        later = tuple((at - seconds, step) for at, step in self.jumps if at > seconds)
        first = self.first.from_source(seconds).shifted(past)
        return PiecewiseMap(first, later) if later else first

    def source_of(self, target: Fraction) -> Fraction | None:
        """Return the source time that sounds at a target time; the later one where two do, None in a loss."""
        for low, high, piece in reversed(self.pieces()):
            source = piece.inverse()(target)
            if (low is None or source >= low) and (high is None or source < high):
                return source
        return None


AnyMap = TimeMap | PiecewiseMap


def pieces_of(laid: AnyMap) -> list[tuple[Fraction | None, Fraction | None, TimeMap]]:
    """Return the straight stretches of any map: (source from, source to, map).

    Parameters
    ----------
    laid : AnyMap
        Straight, or with jumps mended.
    """
    return laid.pieces() if isinstance(laid, PiecewiseMap) else [(None, None, laid)]


def exact_seconds(value: float, *, digits: int = 9) -> Fraction:
    """Round a measured time to a decimal fraction, to be exact from here on.

    Parameters
    ----------
    value : float
        Seconds.
    digits : int
        Decimal places kept.
    """
    return Fraction(round(value * 10**digits), 10**digits)


def composed(outer: AnyMap, first: AnyMap) -> AnyMap:
    """Return the map that takes what `first` is a map of to what `outer` leads to.

    Examples
    --------
    >>> lost = PiecewiseMap(TimeMap(Fraction(1)), ((Fraction(10), Fraction(2)),))
    >>> composed(lost, TimeMap(Fraction(5)))(Fraction(5))
    Fraction(13, 1)
    """
    straight = _straight(outer).after(_straight(first))
    jumps = [(at, step * outer.rate) for at, step in _jumps(first)]
    for at, step in _jumps(outer):
        source = first.source_of(at) if isinstance(first, PiecewiseMap) else first.inverse()(at)
        if source is None:  # what `first` loses there is not heard: the step falls where it goes on
            source = min((moment for moment, _ in _jumps(first) if first(moment) >= at), default=Fraction(0))
        jumps.append((source, step))
    return PiecewiseMap(straight, tuple(sorted(jumps))) if jumps else straight


def inverted(laid: AnyMap) -> AnyMap:
    """Return the map back from target to source; where the target has nothing of the source, the source runs on."""
    if isinstance(laid, TimeMap):
        return laid.inverse()
    jumps = [(laid(at), -step / laid.rate) for at, step in laid.jumps]
    return PiecewiseMap(laid.first.inverse(), tuple(sorted(jumps)))


def _straight(laid: AnyMap) -> TimeMap:
    return laid.first if isinstance(laid, PiecewiseMap) else laid


def _jumps(laid: AnyMap) -> tuple[tuple[Fraction, Fraction], ...]:
    return laid.jumps if isinstance(laid, PiecewiseMap) else ()
