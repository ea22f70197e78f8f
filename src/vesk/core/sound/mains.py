"""Mains hum and buzz: found by its harmonics, and taken out without moving anything in time.

Two recorders on one mains hear the same hum, at the phase of wherever they stand: common sound that repeats, and fixes
no place. It is loud at whole multiples of one frequency, always; nothing else is.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.sound.features import WORK_RATE, onset_features
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.taper import hann

MAINS_HZ = (50.0, 60.0)
_AROUND_HZ, _FINE_HZ = 0.5, 0.01  # mains keep to a hundredth over a minute, to a few tenths over a day
_BLOCK = 4 * WORK_RATE
_LOOKED = 12
_HARMONICS = 60
_BESIDE_HZ = 12.0  # what lies between two harmonics tells how loud one would be without hum
_LOOKED_BINS = round((max(MAINS_HZ) + 1) * (_HARMONICS + 1) * _BLOCK / WORK_RATE)
_LOUD, _LEAST_HARMONICS = 6.0, 5  # times its surroundings in power, in the median block
_WIDE_HZ = 0.9
_LEAST_BLOCKS = 3


def find_hum(hearing: Hearing) -> float | None:
    """Return the mains frequency whose harmonics stand out all along a recording, Hz; None where none does.

    Parameters
    ----------
    hearing : Hearing
    """
    count = hearing.size // _BLOCK
    if count < _LEAST_BLOCKS:
        return None
    starts = np.linspace(0, hearing.size - _BLOCK, min(_LOOKED, count)).astype(int)
    blocks = np.stack([hearing.window(int(start), _BLOCK) for start in starts])
    over = np.median([_over(power) for power in _power(blocks)], axis=0)
    found = _fundamental(over)
    return found if int((_at(over, found) > _LOUD).sum()) >= _LEAST_HARMONICS else None


def without_hum(hearing: Hearing, mains_hz: float) -> Hearing:
    """Return a recording without its hum: nothing is left at any harmonic, and the rest stays as it was.

    Parameters
    ----------
    hearing : Hearing
    mains_hz : float
        As found.
    """
    hop = _BLOCK // 2
    fade = np.sqrt(hann(_BLOCK + 1)[:-1])
    out = np.zeros(hearing.size + 2 * _BLOCK, np.float32)
    for start in range(-hop, hearing.size, hop):
        spectrum = fft.rfft(hearing.window(start, _BLOCK) * fade)
        exact = _fundamental(_over(np.abs(spectrum[:_LOOKED_BINS]) ** 2), about_hz=mains_hz)
        # Nothing is left there: at the level of what lies beside it, hum's phase alone made one of two other takes.
        spectrum[_near_harmonics(exact)] = 0
        out[start + hop : start + hop + _BLOCK] += fft.irfft(spectrum, _BLOCK) * fade
    clean = out[hop : hop + hearing.size]
    return Hearing(clean, onset_features(clean * np.float32(hearing.unit)), hearing.unit)


def _power(blocks: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the power of blocks in bins up to the last harmonic that is looked at, and a little beyond."""
    bins = fft.rfft(blocks * hann(_BLOCK), axis=1)[:, :_LOOKED_BINS]
    return np.asarray(bins.real**2 + bins.imag**2, np.float32)


def _beside(power: NDArray[np.float32]) -> NDArray[np.float64]:
    wide = round(2 * _BESIDE_HZ * _BLOCK / WORK_RATE)
    whole = power[: power.size // wide * wide].reshape(-1, wide)
    middles = (np.arange(whole.shape[0]) + 0.5) * wide
    level = np.interp(np.arange(power.size), middles, np.median(whole, axis=1))
    return np.asarray(level + 1e-12 * float(power.max()) + 1e-30)


def _over(power: NDArray[np.float32]) -> NDArray[np.float64]:
    """Return how far each bin stands over what lies beside it."""
    return np.asarray(power / _beside(power))


def _at(over: NDArray[np.float64], mains_hz: NDArray[np.float64] | float) -> NDArray[np.float64]:
    """Return what stands at every harmonic of one frequency (harmonics,), or of each of several (n, harmonics)."""
    bins = np.rint(np.multiply.outer(mains_hz, np.arange(1, _HARMONICS + 1)) * (_BLOCK / WORK_RATE)).astype(int)
    return np.asarray(over[bins])


def _fundamental(over: NDArray[np.float64], about_hz: float | None = None) -> float:
    """Return the frequency whose multiples stand out most."""
    around = [about_hz] if about_hz else MAINS_HZ
    tried = np.concatenate([np.arange(one - _AROUND_HZ, one + _AROUND_HZ, _FINE_HZ) for one in around])
    if about_hz:
        tried = tried[np.abs(tried - about_hz) < 10 * _FINE_HZ]
    loud = np.log(np.clip(over, 1.0, 100.0))
    return float(tried[int(np.argmax(_at(loud, tried).sum(axis=-1)))])


def _near_harmonics(mains_hz: float) -> NDArray[np.int64]:
    half = round(_WIDE_HZ * _BLOCK / WORK_RATE)
    top = int(WORK_RATE / 2 / mains_hz)
    bins = np.rint(mains_hz * np.arange(1, top + 1) * _BLOCK / WORK_RATE).astype(np.int64)
    near = (bins[:, None] + np.arange(-half, half + 1)).ravel()
    return np.unique(near[(near > 0) & (near <= _BLOCK // 2)])
