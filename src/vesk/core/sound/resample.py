"""Resampling by a constant rate and shifting by a part of a sample."""

from __future__ import annotations

import numpy as np
import soxr
from numpy.typing import NDArray

from vesk.core.sound.filters import filtered, of_taps

_HALF = 32  # taps on either side: -120 dB up to 0.9 of the band


def fractional_shift(sound: NDArray[np.float32], fraction: float) -> NDArray[np.float32]:
    """Delay a sound by a part of a sample.

    Parameters
    ----------
    sound : ndarray of float32, shape (n, channels)
        Full scale ±1.
    fraction : float
        Delay in samples, 0 to 1; positive makes events later.

    Returns
    -------
    ndarray of float32, shape (n, channels)
        ``out[i] ≈ sound(i - fraction)``.

    References
    ----------
    .. [1] T. I. Laakso et al., "Splitting the unit delay", IEEE Signal Process. Mag. 13(1), 1996.
    """
    if fraction == 0.0:
        return sound
    taps = np.arange(-_HALF, _HALF + 1, dtype=np.float64) - fraction
    window = np.kaiser(2 * _HALF + 1, 11.0)
    kernel = np.sinc(taps) * window
    kernel /= kernel.sum()
    response = of_taps(kernel)
    longer = np.concatenate([sound, np.zeros((_HALF, sound.shape[1]), np.float32)])  # the filter's own delay
    moved = [filtered(channel, response)[0][_HALF:] for channel in longer.T]
    return np.ascontiguousarray(np.stack(moved, axis=1))


def stretch(sound: NDArray[np.float32], rate: float, *, quality: str = "VHQ") -> NDArray[np.float32]:
    """Resample so that one sample becomes `rate` samples (e.g. 0.9999 shortens by 100 ppm).

    Parameters
    ----------
    sound : ndarray of float32, shape (n, channels)
    rate : float
        Output samples per input sample, near 1.
    quality : str
        "VHQ" for what is heard; "HQ", alike to -97 dB below 5 kHz and two thirds of the work, for what is compared.

    Returns
    -------
    ndarray of float32, shape (about n * rate, channels)
        Output sample *j* is the input at ``j / rate``; no delay.
    """
    if rate == 1.0:
        return sound
    # soxr takes two rates; large ones keep the ratio's rounding below 1e-9.
    return np.asarray(soxr.resample(sound, 1e6, 1e6 * rate, quality=quality), dtype=np.float32)


def to_rate(sound: NDArray[np.float32], sample_rate: int, rate: int) -> NDArray[np.float32]:
    """Bring one channel (n,) from `sample_rate` to `rate` Hz; no delay.

    Parameters
    ----------
    sound : ndarray of float32
        One channel, full scale ±1.
    sample_rate : int
        Of it, Hz.
    rate : int
        Wanted, Hz.
    """
    if sample_rate == rate:
        return sound
    return np.asarray(soxr.resample(sound, sample_rate, rate, quality="HQ"), dtype=np.float32)
