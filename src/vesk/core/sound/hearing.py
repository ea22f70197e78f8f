"""What one recording offers to be matched: one channel at the working rate, and its features."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.features import WORK_RATE

SILENCE = 1e-6  # of full scale: -120 dB
_PIECE = 1 << 22


@dataclass(frozen=True, slots=True)
class Hearing:
    """One channel of a recording, ready to be matched.

    Attributes
    ----------
    sound : ndarray, shape (n,)
        At `WORK_RATE`; float32 with full scale ±1, or int16 (may be mapped from disk: only
        windows of it are read) in units of `unit`.
    features : ndarray of float16, shape (n // HOP, BANDS)
        From `onset_features`.
    unit : float
        What 1 in `sound` stands for, of full scale.
    """

    sound: NDArray[np.generic]
    features: NDArray[np.float16]
    unit: float = 1.0

    @property
    def size(self) -> int:
        """Samples at `WORK_RATE`."""
        return int(self.sound.size)

    @property
    def seconds(self) -> float:
        """Duration."""
        return self.size / WORK_RATE

    @property
    def silent(self) -> bool:
        """Whether there is nothing to hear anywhere."""
        for start in range(0, self.size, _PIECE):
            piece = self.sound[start : start + _PIECE].astype(np.float32)
            if piece.size and float(np.sqrt(np.mean(piece**2))) * self.unit >= SILENCE:
                return False
        return True

    def window(self, start: int, length: int) -> NDArray[np.float32]:
        """Cut samples ``start`` to ``start + length`` as float32, zero outside the recording, in units of `unit`."""
        low, high = max(0, start), min(self.size, start + length)
        if low == start and high == start + length:
            return np.array(self.sound[low:high], np.float32)  # a plain one, where the sound is mapped from disk
        out = np.zeros(length, np.float32)
        if high > low:
            out[low - start : high - start] = self.sound[low:high]
        return out
