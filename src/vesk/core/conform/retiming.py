"""Retiming the picture: where the sound is the truth, it stays as recorded and the picture's rate gives way.

No new picture is made. The picture's exact rate is said, and whoever opens the take plays its frames at that rate.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.conform.correction import Correction
from vesk.core.kinds import Kind
from vesk.core.timemap import AnyMap, PiecewiseMap, TimeMap


@dataclass(frozen=True, slots=True)
class Timed:
    """A take as it is handed over.

    Attributes
    ----------
    laid : TimeMap or PiecewiseMap
        Sound seconds to seconds of the take as it plays.
    fps : Fraction
        At which its picture plays, frames a second, exact.
    stretch : Fraction
        Seconds as it plays for one second of the picture as recorded; 1 where the picture stays.
    """

    laid: AnyMap
    fps: Fraction
    stretch: Fraction = Fraction(1)


def timed(correction: Correction, offset: Fraction, fps: Fraction) -> Timed:
    """Return how a take plays after its correction.

    Parameters
    ----------
    correction : Correction
    offset : Fraction
        Picture time of sound sample 0 before any correction, seconds.
    fps : Fraction
        Of the picture as recorded, frames a second.

    Examples
    --------
    A recorder 40 ppm fast, taken for the truth: the picture plays 40 ppm slower than it says.

    >>> slow = timed(Correction(ppm=Fraction(40), retimed=Kind.PICTURE), Fraction(0), Fraction(25))
    >>> slow.fps, slow.laid.rate
    (Fraction(625000, 25001), Fraction(1, 1))
    """
    laid = correction.on(offset)
    if correction.retimed != Kind.PICTURE or laid.rate == 1:
        return Timed(laid, fps)
    stretch = 1 / laid.rate
    straight = TimeMap(laid.offset * stretch)
    if isinstance(laid, PiecewiseMap):
        return Timed(PiecewiseMap(straight, tuple((at, by * stretch) for at, by in laid.jumps)), fps / stretch, stretch)
    return Timed(straight, fps / stretch, stretch)


def meaning(correction: Correction, fps: Fraction) -> str:
    """Return what a correction's rate means for picture and pitch, in a sentence; empty without a rate.

    Parameters
    ----------
    correction : Correction
    fps : Fraction
        Of the picture, frames a second.
    """
    if not correction.ppm:
        return ""
    cents = 1200 * abs(float(correction.ppm)) * 1e-6 / 0.6931471805599453
    if correction.retimed == Kind.PICTURE:
        exact = timed(correction, Fraction(0), fps).fps
        return (
            f"The sound is the truth: it is handed over as recorded, at its own pitch; the picture plays at "
            f"{exact.numerator}/{exact.denominator} ({float(exact):.6f}) frames a second, and no frame is added or lost"
        )
    return (
        f"The picture is the truth: it plays as recorded; the sound is laid {abs(float(correction.ppm)):.2f} ppm "
        f"{'slower' if correction.ppm < 0 else 'faster'}, which moves its pitch by {cents:.3f} cents"
    )
