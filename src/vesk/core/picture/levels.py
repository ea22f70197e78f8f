"""How bright pictures are, and the plain lift that makes dark and flat ones visible: for viewing only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

_LOW, _HIGH = 0.02, 0.98  # parts of all points that are darker than what counts as black, and than white
_DARK, _FLAT = 0.45, 0.5  # white below this, or a span below this, is lifted
_MOST = 6.0


@dataclass(frozen=True, slots=True)
class Lift:
    """What to do with brightness, full scale 1: multiply by `gain`, then add `shift`."""

    gain: float
    shift: float


class Levels:
    """The brightness of the pictures that pass by."""

    def __init__(self) -> None:
        self._counts = np.zeros(256, np.int64)

    def add(self, luma: NDArray[np.uint8]) -> None:
        """Count a picture's points: 8 bit brightness of any shape, video range (16 black, 235 white)."""
        self._counts += np.bincount(luma.reshape(-1), minlength=256)

    def lift(self) -> Lift | None:
        """Return the lift that would use the range; None where the pictures use enough of it, or show nothing.

        Examples
        --------
        >>> own = Levels()
        >>> own.add(np.linspace(16, 60, 1000).astype(np.uint8))
        >>> own.lift().gain > 3
        True
        """
        total = int(self._counts.sum())
        if not total:
            return None
        seen = np.searchsorted(np.cumsum(self._counts), [_LOW * total, _HIGH * total])
        low, high = (float(np.clip((at - 16) / 219, 0, 1)) for at in seen)
        if high - low < 0.01 or (high >= _DARK and high - low >= _FLAT):
            return None
        gain = min(_MOST, 0.9 / (high - low))
        return Lift(round(gain, 3), round(0.04 - gain * low, 3))
