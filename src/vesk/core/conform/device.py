"""One correction for all takes of a device: how far off its clock is over the day, and at which rate its takes run.

A take's own correction stands above it: what a person set on one take stays as it was set.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from vesk.core.conform.correction import Correction
from vesk.core.kinds import Kind
from vesk.core.timecode import wrap_day
from vesk.core.timemap import MILLION, exact_seconds

_ONE_FRAMES = 0.05  # what takes differ by less is one figure
_WANDERS_PPM = 200.0  # clocks of one day part by less: more is another cause
_LINE = 4  # takes that a line rests on: through two any goes
_PPM_DIGITS = 10**4


@dataclass(frozen=True, slots=True)
class DeviceCorrection:
    """A slip that may grow over the day, and a rate, for every take of a device.

    Attributes
    ----------
    slip : Fraction
        Seconds that the sound moves on picture time, at the anchor; positive is later.
    drift : Fraction
        By how much the slip grows over the day's label clock, ppm.
    ppm : Fraction
        Rate error of the sound that is taken out inside each take.
    anchor : Fraction
        On the day's label clock, seconds.
    retimed : Kind
        Whose rate gives way: the sound's, or the picture's.
    """

    slip: Fraction
    drift: Fraction = Fraction(0)
    ppm: Fraction = Fraction(0)
    anchor: Fraction = Fraction(0)
    retimed: Kind = Kind.SOUND

    def on_take(self, offset: Fraction, picture_start: Fraction, day: Fraction) -> Correction:
        """Return what it does to one take.

        Parameters
        ----------
        offset : Fraction
            Picture time of sound sample 0 before any correction, seconds.
        picture_start : Fraction
            Of the picture, on the day's label clock, seconds.
        day : Fraction
            How long the label clock takes to come round, seconds.

        Returns
        -------
        Correction
            Its rate turns about the head of what the two share.
        """
        head = max(Fraction(0), offset)
        since = wrap_day(picture_start + head - self.anchor, day)
        slip = self.slip + self.drift * since / MILLION
        return Correction(slip, self.ppm, head - offset - slip, (), self.retimed)


def summed(offset: Fraction, parts: Sequence[Correction]) -> Correction:
    """Return what several corrections do to one take together: slips, rates and jump mends add up.

    Parameters
    ----------
    offset : Fraction
        Picture time of sound sample 0 before any correction, seconds.
    parts : sequence of Correction
        In the order in which they stand: the device's, its stretch's, the run's.

    Returns
    -------
    Correction
        Its rate turns about the head of what the two share; the last part that has a rate says whose gives way.
    """
    slip = sum((one.slip for one in parts), Fraction(0))
    ppm = sum((one.ppm for one in parts), Fraction(0))
    jumps = tuple(sorted(jump for one in parts for jump in one.jumps))
    says = [one.retimed for one in parts if one.ppm] or [Kind.SOUND]
    return Correction(slip, ppm, max(Fraction(0), offset) - offset - slip, jumps, says[-1])


@dataclass(frozen=True, slots=True)
class Take:
    """One take of a device, to fit a correction to.

    Attributes
    ----------
    key : str
    offset : Fraction
        Before any correction, seconds.
    picture_start : Fraction
        On the day's label clock, seconds.
    frame_s : float
    head_slip_s, tail_slip_s : float
        What would put its head, and its tail, right.
    span_s : float
        From head to tail.
    ppm : float
        Measured rate of the sound, with `se_ppm` its standard error.
    wants_rate : bool
        Whether a slip alone leaves it outside what is let pass.
    """

    key: str
    offset: Fraction
    picture_start: Fraction
    frame_s: float
    head_slip_s: float
    tail_slip_s: float
    span_s: float
    ppm: float
    se_ppm: float
    wants_rate: bool


@dataclass(frozen=True, slots=True)
class DeviceFit:
    """A device's correction and the takes that it does not put right, by key."""

    correction: DeviceCorrection
    left: tuple[str, ...]


def fit_device(takes: Sequence[Take], day: Fraction) -> DeviceFit | None:
    """Fit one correction to the takes of a device; None where it would put fewer than half of them right.

    Parameters
    ----------
    takes : sequence of Take
    day : Fraction
        How long the label clock takes to come round, seconds.
    """
    if len(takes) < 2:
        return None
    ordered = sorted(takes, key=lambda one: one.key)
    anchor = ordered[0].picture_start
    at = np.array([float(wrap_day(one.picture_start + max(Fraction(0), one.offset) - anchor, day)) for one in ordered])
    slip = np.array([one.head_slip_s for one in ordered])
    ppm = _rate(ordered)
    made: DeviceFit | None = None
    for drift in dict.fromkeys((0.0, _slope(at, slip))):
        level = float(np.median(slip - drift * at))
        for _ in range(2):  # the middle tells which agree, the mean of those is nearer
            found = DeviceCorrection(exact_seconds(level), _exact_ppm(drift * 1e6), ppm, anchor)
            right = np.array([_is_right(one, found, float(when)) for one, when in zip(ordered, at, strict=True)])
            left = tuple(one.key for one, fits in zip(ordered, right, strict=True) if not fits)
            same = made is not None and made.correction.drift == found.drift
            if made is None or len(left) < len(made.left) + same:  # of equals, the nearer level
                made = DeviceFit(found, left)
            if not right.any():
                break
            level = float((slip - drift * at)[right].mean())
    return made if made is not None and 2 * len(made.left) < len(takes) else None


def _exact_ppm(ppm: float) -> Fraction:
    return Fraction(round(ppm * _PPM_DIGITS), _PPM_DIGITS)


def _rate(takes: Sequence[Take]) -> Fraction:
    """Return the one rate of all takes, ppm: none where no take asks for any."""
    if not any(one.wants_rate for one in takes):
        return Fraction(0)
    weights = [max(one.se_ppm, 1e-3) ** -2 for one in takes]
    mean = sum(one.ppm * weight for one, weight in zip(takes, weights, strict=True)) / sum(weights)
    return _exact_ppm(mean)


def _slope(at: NDArray[np.float64], slip: NDArray[np.float64]) -> float:
    """Return how fast slips grow, seconds a second, by the median of all pairs (Theil 1950, Sen 1968)."""
    if at.size < _LINE:
        return 0.0
    one, other = np.triu_indices(at.size, 1)
    away = at[other] - at[one]
    apart = np.abs(away) > 1.0
    slope = float(np.median((slip[other] - slip[one])[apart] / away[apart])) if apart.any() else 0.0
    return slope if abs(slope) < _WANDERS_PPM * 1e-6 else 0.0


def _is_right(take: Take, by: DeviceCorrection, at_s: float) -> bool:
    slip = float(by.slip) + float(by.drift) * 1e-6 * at_s
    # A rate about the head moves the tail earlier by what the sound's clock gains until there.
    tail = slip - float(by.ppm) * 1e-6 * take.span_s
    within = _ONE_FRAMES * take.frame_s
    return abs(slip - take.head_slip_s) < within and abs(tail - take.tail_slip_s) < within
