"""How loud a channel is, and whether it hums, clips or is silent."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.taper import hann

SILENT_DB = -72.0  # peaks below: nothing but a converter's noise
HUM_SHARE = 0.5  # of the energy of its quietest stretches
CLIPPED_RUNS = 10  # places where three samples in a row stand at full scale
_FULL = 0.9997
_PIECE = 4 * WORK_RATE
_MAINS = (50.0, 60.0)


@dataclass(frozen=True, slots=True)
class SoundLevel:
    """A channel's levels.

    Attributes
    ----------
    peak_db, rms_db : float
        Of full scale; -200 for digital silence.
    clipped : int
        Places where three samples or more in a row stand at full scale.
    """

    peak_db: float
    rms_db: float
    clipped: int


class LevelMeter:
    """Levels of one channel that passes by in blocks."""

    def __init__(self) -> None:
        self._peak = 0.0
        self._power = 0.0
        self._clipped = 0
        self._count = 0

    def feed(self, block: NDArray[np.float32]) -> None:
        """Take the next samples, float32 (n,).

        Parameters
        ----------
        block : ndarray of float32
            Full scale ±1, in order, any length.
        """
        if not block.size:
            return
        peak = max(float(block.max()), -float(block.min()))
        self._peak = max(self._peak, peak)
        self._power += float(np.dot(block, block))
        self._count += block.size
        if peak >= _FULL:
            full = np.abs(block) >= _FULL
            three = full[2:] & full[1:-1] & full[:-2]
            self._clipped += int((three[1:] & ~three[:-1]).sum()) + int(three[:1].sum())

    def finish(self) -> SoundLevel:
        """Return the channel's levels."""

        def decibels(value: float) -> float:
            return round(20 * float(np.log10(value)), 2) if value > 1e-10 else -200.0

        return SoundLevel(decibels(self._peak), decibels((self._power / max(self._count, 1)) ** 0.5), self._clipped)


def hum_share(sound: NDArray[np.float32]) -> float:
    """Return how much of a channel's quietest stretches is the mains' hum.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at `WORK_RATE`.

    Returns
    -------
    float
        0 to 1: share of the energy between 40 Hz and 2 kHz that lies on multiples of 50 or 60 Hz.
    """
    pieces = [sound[at : at + _PIECE] for at in range(0, sound.size - _PIECE + 1, max(_PIECE, sound.size // 24))]
    pieces = [piece for piece in pieces if float(np.abs(piece).max()) > 1e-6]
    if not pieces:
        return 0.0
    quiet = sorted(pieces, key=lambda piece: float(piece @ piece))[: max(1, len(pieces) // 3)]
    power = np.zeros(_PIECE // 2 + 1, np.float32)
    for piece in quiet:
        parts = fft.rfft(piece * hann(_PIECE))
        power += parts.real**2 + parts.imag**2
    hertz = fft.rfftfreq(_PIECE, 1 / WORK_RATE)
    band = (hertz > 40) & (hertz < 2000)
    shares = []
    for mains in _MAINS:
        away = np.abs(hertz - np.rint(hertz / mains) * mains)
        near = band & (away <= 0.75)  # a mains wanders by a few tenths of a hertz
        chance = near.sum() / band.sum()
        share = float(power[near].sum() / max(float(power[band].sum()), 1e-30))
        shares.append((share - chance) / (1 - chance))
    return float(max(0.0, *shares))
