"""Corrections: what is done to a pairing's map, and what it leaves.

A correction never touches a file. It says how far the sound moves on picture
time (a slip) and, where drift leaves the tolerance, at which rate it is laid.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.kinds import Gained, Kind
from vesk.core.sound.measurement import Jump, Line
from vesk.core.timemap import AnyMap, PiecewiseMap, TimeMap, exact_seconds
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
    jumps : tuple of (Fraction, Fraction)
        Jump mends: sound time, and by how much what follows moves later on picture time (seconds).
    retimed : Kind
        Whose rate gives way: the sound's, laid at the picture's, or the picture's, where the sound is the truth.
    """

    slip: Fraction = Fraction(0)
    ppm: Fraction = Fraction(0)
    anchor: Fraction = Fraction(0)
    jumps: tuple[tuple[Fraction, Fraction], ...] = ()
    retimed: Kind = Kind.SOUND

    @property
    def mends(self) -> str:
        """What a report says of its jump mends; empty without any."""
        count = len(self.jumps)
        return "" if not count else "1 jump mended" if count == 1 else f"{count} jumps mended"

    def on(self, timecode_offset: Fraction) -> AnyMap:
        """Return the corrected map of a pairing that timecode lays at an offset (seconds).

        Parameters
        ----------
        timecode_offset : Fraction
            Picture time of sound sample 0, seconds.
        """
        straight = TimeMap.with_ppm(timecode_offset + self.slip, self.ppm, anchor=self.anchor)
        return PiecewiseMap(straight, self.jumps) if self.jumps else straight


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


def laid_at(laid: AnyMap, sound_s: float) -> float:
    """Return where a moment of the sound sits on picture time, seconds, for show.

    Parameters
    ----------
    laid : AnyMap
        Sound seconds to picture seconds.
    sound_s : float
        The moment, seconds of the sound.
    """
    sits = float(laid.offset) + float(laid.rate) * sound_s
    if isinstance(laid, PiecewiseMap):
        sits += sum(float(step) for at, step in laid.jumps if sound_s >= float(at))
    return sits


def error_at(laid: AnyMap, line: Line, picture_s: float, *, late_s: float = 0.0) -> float:
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
    return laid_at(laid, sound_s) - (picture_s - late_s)


def errors(laid: AnyMap, line: Line, points: tuple[float, float, float], *, late_s: float = 0.0) -> Errors:
    """Return the errors (seconds) at head, middle and tail.

    Parameters
    ----------
    laid : AnyMap
        Sound seconds to picture seconds, as it is laid now.
    line : Line
        What was measured.
    points : tuple[float, float, float]
        Picture times of head, middle and tail, seconds.
    late_s : float
        How late the camera is known to hear, seconds.
    """
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

    Parameters
    ----------
    timecode_offset : Fraction
        Picture time of sound sample 0 by timecode, seconds.
    line : Line
        What was measured.
    points : tuple[float, float, float]
        Picture times of head, middle and tail, seconds.
    fps : Fraction
        Of the picture, frames a second.
    tolerance : Tolerance
        The day's.
    late_s : float
        How late the camera is known to hear, seconds.

    Returns
    -------
    Correction
        A rate is proposed only when the best slip alone would leave an error at head or tail
        beyond half the tolerance: drift that stays inside is left alone.
    """
    head = points[0]
    head_sound = head - line.offset_at(head)
    drift = abs(line.ppm) * 1e-6 * (points[2] - points[0])
    # Centred, a slip alone leaves half the drift at either end.
    wants_rate = drift / 2 > float(tolerance.seconds(fps)) / 2
    ppm = Fraction(round(line.ppm * 10**4), 10**4) if wants_rate else Fraction(0)
    anchor = exact_seconds(head_sound)
    mends = jump_mends(line, points)
    bare = Correction(Fraction(0), ppm, anchor, mends).on(timecode_offset)
    found = errors(bare, line, points, late_s=late_s)
    off = found.head_s if wants_rate else (found.head_s + found.tail_s) / 2
    return Correction(exact_seconds(-off), ppm, anchor, mends)


def jump_mends(line: Line, points: tuple[float, float, float]) -> tuple[tuple[Fraction, Fraction], ...]:
    """Return what mends the jumps inside a pairing: at the sound's own time, each moves the rest by its step.

    Parameters
    ----------
    line : Line
        What was measured.
    points : tuple[float, float, float]
        Picture times of head, middle and tail, seconds.
    """
    mends = []
    before = sum(jump.step_s for jump in line.jumps if jump.at_s <= points[0])
    for jump in line.jumps:
        if points[0] < jump.at_s < points[2]:
            own = jump.at_s - (line.at_middle_s - line.ppm * 1e-6 * (jump.at_s - line.middle_s) + before)
            mends.append((exact_seconds(own + _into_gained(jump)), exact_seconds(jump.step_s)))
            before += jump.step_s
    return tuple(mends)


def _into_gained(jump: Jump) -> float:
    """Return how long after a jump's moment the sound goes on, seconds: what it gained is left out, and nothing else.

    Silence ends where it ends. Of what is there twice the middle is as good as either end, and nearest to neither; and
    what is neither is known by where it neither lies along the line before nor the one after: its moment is its middle.
    """
    gained = max(0.0, -jump.step_s)
    return gained if jump.gained == Gained.SILENCE else gained / 2
