"""Features of a sound: how its energy changes, band by band, a hundred times a second.

Small enough to store with each recording (about 0.6 MB an hour and band set as
float16), and enough to say roughly where two recordings share sound.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.errors import SignalError

WORK_RATE = 16_000  # Hz: the rate at which sound is matched; higher bands rarely agree between microphones
HOP = 160  # samples at WORK_RATE: 100 features a second
FEATURE_RATE = WORK_RATE // HOP
BANDS = 16
_WINDOW = 400
_FFT = 512
_BLOCK = 6000  # feature frames at once: a minute, so that memory stays flat on long recordings


def _band_matrix() -> NDArray[np.float32]:
    edges = np.geomspace(110.0, 7200.0, BANDS + 1)
    bins = np.fft.rfftfreq(_FFT, 1 / WORK_RATE)
    rows = [(bins >= low) & (bins < high) for low, high in pairwise(edges)]
    return np.array(rows, dtype=np.float32).T


def onset_features(sound: NDArray[np.float32]) -> NDArray[np.float16]:
    """Compute the half-wave rectified change of log energy in 16 bands.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at `WORK_RATE`, full scale ±1.

    Returns
    -------
    ndarray of float16, shape (n // HOP, BANDS)
        Per band zero mean and unit variance (all zero where the band is still);
        dimensionless; row *k* describes the sound around sample ``k * HOP``.

    Raises
    ------
    SignalError
        If `sound` is not one-dimensional.
    """
    if sound.ndim != 1:
        raise SignalError(f"features need one channel, not shape {sound.shape}")
    count = sound.size // HOP
    if count < 2:
        return np.zeros((count, BANDS), dtype=np.float16)
    padded = np.concatenate([np.zeros(_WINDOW // 2, np.float32), sound, np.zeros(_WINDOW + HOP, np.float32)])
    frames = np.lib.stride_tricks.sliding_window_view(padded, _WINDOW)[::HOP]
    window = np.hanning(_WINDOW).astype(np.float32)
    matrix = _band_matrix()
    energy = np.empty((count, BANDS), dtype=np.float32)
    for start in range(0, count, _BLOCK):
        stop = min(count, start + _BLOCK)
        spectrum = np.fft.rfft(frames[start:stop] * window, _FFT)
        energy[start:stop] = (spectrum.real**2 + spectrum.imag**2) @ matrix
    # A floor at a tenth of the usual energy keeps the noise between words from counting as change.
    floor = 0.1 * np.median(energy, axis=0) + 1e-9
    level = np.log(energy + floor)
    change = np.diff(level, axis=0, prepend=level[:1])
    np.maximum(change, 0.0, out=change)
    change -= change.mean(axis=0)
    spread = change.std(axis=0)
    change /= np.where(spread > 1e-4, spread, np.inf)
    return np.clip(change, -8, 8).astype(np.float16)
