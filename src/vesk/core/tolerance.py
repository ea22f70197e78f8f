"""How far off is still in sync, and which drift is worth a rate change."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction


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
