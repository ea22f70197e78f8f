"""Timecode that leaks from its own channel into one that should be heard."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_LAGS = 12  # samples either way: wiring and coders shift by a few
_SURE = 8.0  # standard errors
_REPEATS = 16  # neighbouring samples of such a signal repeat each other about as often


def crosstalk_db(timecode: NDArray[np.float32], other: NDArray[np.float32]) -> float | None:
    """Tell how loud a timecode channel is heard on another.

    Parameters
    ----------
    timecode, other : ndarray of float32, shape (n,)
        The same stretch of two channels, some seconds.

    Returns
    -------
    float or None
        Level against the timecode's own, dB (0 is as loud); None where nothing of it is found.

    Notes
    -----
    Differences from sample to sample are compared: leakage favours edges, and a voice has little there.
    """
    one, two = np.diff(timecode.astype(np.float64)), np.diff(other.astype(np.float64))
    size = min(one.size, two.size) - 2 * _LAGS
    if size < 1000:
        return None
    middle = one[_LAGS : _LAGS + size]
    own = float(middle @ middle)
    power = float(two @ two)
    if own <= 0 or power <= 0:
        return None
    heard = max(abs(float(middle @ two[lag : lag + size])) for lag in range(2 * _LAGS + 1))
    if heard / np.sqrt(own * power) * np.sqrt(size / _REPEATS) < _SURE:
        return None
    return 20 * float(np.log10(heard / own))
