"""What measuring two recordings by sound gives: plain values."""

from __future__ import annotations

from dataclasses import dataclass

MATCHED, AMBIGUOUS, REFUSED = "matched", "ambiguous", "refused"

# One metre of movement is 2.9 ms and a microphone's filter 60 to 90 µs: what is shown to a
# person claims no more than this of the world, however well the method does on arrays.
WORLD_FLOOR_S = 50e-6


@dataclass(frozen=True, slots=True)
class TracePoint:
    """One window of the trace.

    Attributes
    ----------
    at_s : float
        Picture time of the window's middle, seconds.
    offset_s : float
        Offset found in it: picture time minus sound time, seconds.
    weight : float
        0 to 1: how clearly the window spoke.
    agrees : bool
        Whether it lies on the line.
    """

    at_s: float
    offset_s: float
    weight: float
    agrees: bool


@dataclass(frozen=True, slots=True)
class Line:
    """Offset along the take: ``at_middle_s - slope * (t - middle_s)``; with its errors.

    Attributes
    ----------
    middle_s : float
        Picture time about which the line turns, seconds.
    at_middle_s : float
        Offset there, seconds.
    ppm : float
        Rate error of the sound against the picture (`job` convention).
    se_middle_s, se_ppm : float
        Standard errors of the method; uncorrelated, since the line turns about its centre.
    """

    middle_s: float
    at_middle_s: float
    ppm: float
    se_middle_s: float
    se_ppm: float

    def offset_at(self, picture_s: float) -> float:
        """Return the offset (seconds) at a picture time: where it minus sound time lies."""
        # n/fs = (t - offset0)(1 + p); offset(t) = t - n/fs falls by p for each picture second.
        return self.at_middle_s - self.ppm * 1e-6 * (picture_s - self.middle_s)

    def standard_error_at(self, picture_s: float) -> float:
        """Return the standard error (seconds) of the offset at a picture time."""
        return float((self.se_middle_s**2 + (self.se_ppm * 1e-6 * (picture_s - self.middle_s)) ** 2) ** 0.5)

    def band_at(self, picture_s: float) -> float:
        """Return the half width (seconds) of the 95 % band shown to a person, with the world's floor."""
        return float(((1.96 * self.standard_error_at(picture_s)) ** 2 + WORLD_FLOOR_S**2) ** 0.5)

    @property
    def offset_s(self) -> float:
        """Picture time of sound sample 0, seconds."""
        rate = self.ppm * 1e-6
        # Solve t - offset_at(t) = 0 for t.
        return (self.at_middle_s + rate * self.middle_s) / (1 + rate)


@dataclass(frozen=True, slots=True)
class Measurement:
    """The answer to "do these two share sound, and how do their times map?".

    Attributes
    ----------
    decision : str
        `MATCHED`, `AMBIGUOUS` or `REFUSED`.
    reason : str
        Why it was refused or is ambiguous; empty when matched.
    line : Line or None
        None when refused.
    head_s, middle_s, tail_s : float
        Picture times of the shared stretch's start, middle and end.
    trace : tuple of TracePoint
        Empty when refused before any window was looked at.
    share : float
        Share of windows that agree with the line, 0 to 1.
    log10_false_alarm : float
        Of the decision; 0 when nothing was found.
    runner_up_s, runner_up_ratio : float or None
        The next best place and its score over the best's.
    channel : int
        Channel of the sound that was used, from 0.
    windows : tuple of float
        Picture times to look at for head, middle and tail: the clearest moment near each.
    """

    decision: str
    reason: str
    line: Line | None
    head_s: float = 0.0
    middle_s: float = 0.0
    tail_s: float = 0.0
    trace: tuple[TracePoint, ...] = ()
    share: float = 0.0
    log10_false_alarm: float = 0.0
    runner_up_s: float | None = None
    runner_up_ratio: float | None = None
    channel: int = 0
    windows: tuple[float, ...] = ()


def refused(reason: str) -> Measurement:
    """Return the measurement that says nothing was found, and why."""
    return Measurement(REFUSED, reason, None)
