"""Corrections: what is done to a pairing's map, and what it leaves.

A correction never touches a file. It says how far the sound moves on picture
time (a slip) and, where drift leaves the tolerance, at which rate it is laid.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.sound.measurement import Line
from vesk.core.timemap import TimeMap, exact_seconds
from vesk.core.tolerance import Tolerance


@dataclass(frozen=True, slots=True)
class Correction:
    """A slip and a rate for one pairing.

    Attributes
    ----------
    slip : Fraction
        Seconds that the sound moves on picture time, at the anchor; positive is later.
    ppm : Fraction
        Rate error of the sound that is taken out; 0 leaves its nominal rate.
    anchor : Fraction
        Sound time (seconds) about which the rate turns: the pairing's head.
    """

    slip: Fraction = Fraction(0)
    ppm: Fraction = Fraction(0)
    anchor: Fraction = Fraction(0)

    def on(self, timecode_offset: Fraction) -> TimeMap:
        """Return the corrected map of a pairing that timecode lays at an offset (seconds)."""
        return TimeMap.with_ppm(timecode_offset + self.slip, self.ppm, anchor=self.anchor)


@dataclass(frozen=True, slots=True)
class Errors:
    """Where the sound sits minus where it belongs, seconds; positive is late."""

    head_s: float
    middle_s: float
    tail_s: float

    @property
    def all(self) -> tuple[float, float, float]:
        """Head, middle and tail."""
        return (self.head_s, self.middle_s, self.tail_s)


def error_at(laid: TimeMap, line: Line, picture_s: float, *, late_s: float = 0.0) -> float:
    """Return where the sound sits minus where it belongs, seconds, at a picture time.

    Parameters
    ----------
    laid : TimeMap
        How the sound is laid now: by timecode, or after its corrections.
    line : Line
        How it was heard to lie.
    picture_s : float
        Picture time, seconds.
    late_s : float
        How late the camera hears (microphone distance and internal delay), seconds: what the
        scratch says lies that much after where the sound belongs.
    """
    sound_s = picture_s - line.offset_at(picture_s)
    sits = float(laid.offset) + float(laid.rate) * sound_s
    return sits - (picture_s - late_s)


def errors(laid: TimeMap, line: Line, points: tuple[float, float, float], *, late_s: float = 0.0) -> Errors:
    """Return the errors (seconds) at head, middle and tail."""
    return Errors(*(error_at(laid, line, point, late_s=late_s) for point in points))


def propose(
    timecode_offset: Fraction,
    line: Line,
    points: tuple[float, float, float],
    *,
    fps: Fraction,
    tolerance: Tolerance,
    late_s: float = 0.0,
) -> Correction:
    """Propose the slip, and the rate where drift leaves the tolerance.

    Returns
    -------
    Correction
        A rate is proposed only when the best slip alone would leave an error at head or tail
        beyond half the tolerance: drift that stays inside is left alone.
    """
    head = points[0]
    head_sound = head - line.offset_at(head)
    drift = abs(line.offset_at(points[2]) - line.offset_at(points[0]))
    # Centred, a slip alone leaves half the drift at either end.
    wants_rate = drift / 2 > float(tolerance.seconds(fps)) / 2
    ppm = Fraction(round(line.ppm * 10**4), 10**4) if wants_rate else Fraction(0)
    anchor = exact_seconds(head_sound)
    bare = Correction(Fraction(0), ppm, anchor).on(timecode_offset)
    found = errors(bare, line, points, late_s=late_s)
    off = found.head_s if wants_rate else (found.head_s + found.tail_s) / 2
    return Correction(exact_seconds(-off), ppm, anchor)
