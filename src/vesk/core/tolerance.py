"""How far off is still in sync, and which drift is worth a rate change."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from vesk.core.errors import NumberError
from vesk.core.figures import read_number

MOST_FRAMES = 10
_MIXED_MS = 1.0  # what lies nearer is heard as one


@dataclass(frozen=True, slots=True)
class Tolerance:
    """The day's tolerance: an error at head, middle or tail of at most `frames` holds."""

    frames: Fraction = Fraction(1, 4)

    def seconds(self, fps: Fraction) -> Fraction:
        """Return the tolerance as picture time.

        Parameters
        ----------
        fps : Fraction
            Of the picture, frames a second.
        """
        return self.frames / fps

    def holds(self, errors_s: tuple[float, ...], fps: Fraction) -> bool:
        """Say whether every error (seconds, either sign) stays inside.

        Parameters
        ----------
        errors_s : tuple[float, ...]
            Seconds, of either sign.
        fps : Fraction
            Of the picture, frames a second.
        """
        return all(abs(error) <= float(self.seconds(fps)) for error in errors_s)


def read_tolerance(text: str, fps: Fraction) -> Tolerance:
    """Read a tolerance as a person types it: frames (``0.25`` or ``0.25 f``), or milliseconds (``1 ms``).

    Parameters
    ----------
    text : str
    fps : Fraction
        Of the picture, frames a second.

    Raises
    ------
    NumberError
        If it is none, or not between a hundredth of a millisecond and ten frames.
    """
    typed = text.strip().lower()
    by_time = typed.endswith("ms")
    value = read_number(typed.removesuffix("ms").removesuffix("f").strip(), least=0, most=10**6)
    frames = value / 1000 * fps if by_time else value
    if not Fraction(1, 100_000) * fps <= frames <= MOST_FRAMES:
        raise NumberError(text, f"is no tolerance: it lies between 0.01 ms and {MOST_FRAMES} frames")
    return Tolerance(frames)


def what_it_means(tolerance: Tolerance, fps: Fraction) -> str:
    """Return what a tolerance lets pass, in words.

    Parameters
    ----------
    tolerance : Tolerance
    fps : Fraction
        Of the picture, frames a second.
    """
    ms = float(tolerance.seconds(fps)) * 1000
    if ms <= _MIXED_MS:
        said = "two sounds of one moment can be mixed without an echo"
    elif tolerance.frames <= Fraction(1, 2):
        said = "lips and sticks look right; two sounds of one moment, mixed, would sound hollow"
    else:
        said = "the sound may belong to a neighbouring frame: it can be seen"
    return f"{float(tolerance.frames):.3g} f, {ms:.3g} ms: {said}"
