"""Linear filters, by their response to each frequency: block by block through a transform (overlap-save).

What a filter library offers beyond these few would cost every process that starts a second of loading.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import fft

SIZE = 4096  # samples transformed at once: what they need stays in a core's cache
_AT_ONCE = 16  # blocks
_TENTH = np.sinc(np.arange(-100, 101) / 10) * np.hamming(201)
_TENTH /= _TENTH.sum()


def second_order(hertz: float, kind: Literal["high", "low"], sample_rate: int) -> NDArray[np.complex64]:
    """Return the response of a Butterworth filter of second order, made digital by the bilinear transform [1]_.

    Parameters
    ----------
    hertz : float
        Where it lets half of the energy pass.
    kind : "high" or "low"
        What it lets pass.
    sample_rate : int
        Hz.

    Returns
    -------
    ndarray of complex64, shape (SIZE // 2 + 1,)
        Of a causal filter; for `filtered`. What it still answers after a sixteenth of a block must be nothing.

    References
    ----------
    .. [1] A. V. Oppenheim and R. W. Schafer, Discrete-Time Signal Processing, 3rd ed., 2010, section 7.2.
    """
    warped = np.tan(np.pi * hertz / sample_rate)
    late = np.exp(-2j * np.pi * np.arange(SIZE // 2 + 1) / SIZE)  # a sample later
    high, low = 1 - late, warped * (1 + late)
    passed = high if kind == "high" else low
    return np.asarray(passed**2 / (high**2 + np.sqrt(2) * low * high + low**2), np.complex64)


def of_taps(taps: NDArray[np.float64]) -> NDArray[np.complex64]:
    """Return the response of a filter given by its taps (at most ``SIZE // 16``)."""
    return np.asarray(fft.rfft(taps, SIZE), np.complex64)


def filtered(sound: NDArray[np.float32], *responses: NDArray[np.complex64]) -> list[NDArray[np.float32]]:
    """Pass one channel through several filters.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        Silent before its first sample.
    *responses : ndarray of complex64, shape (SIZE // 2 + 1,)

    Returns
    -------
    list of ndarray of float32, shape (n,)
        One a response; errors are some 1e-7 of the loudest within a block.
    """
    before = SIZE // 16
    hop = SIZE - before
    blocks = -(-sound.size // hop)
    padded = np.zeros(before + blocks * hop, np.float32)
    padded[before : before + sound.size] = sound
    rows = np.lib.stride_tricks.sliding_window_view(padded, SIZE)[::hop] if blocks else np.zeros((0, SIZE), np.float32)
    out = [np.empty((blocks, hop), np.float32) for _ in responses]
    for first in range(0, blocks, _AT_ONCE):
        spectra = fft.rfft(rows[first : first + _AT_ONCE], axis=1)
        for response, passed in zip(responses, out, strict=True):
            whole = fft.irfft(spectra * response, SIZE, axis=1, overwrite_x=True)
            passed[first : first + _AT_ONCE] = whole[:, before:]
    return [passed.reshape(-1)[: sound.size] for passed in out]


def tenth(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return every tenth of evenly spaced values (n,), what moves faster than that taken out: (ceil(n / 10),)."""
    padded = np.pad(values, _TENTH.size // 2)
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, _TENTH.size)[::10] @ _TENTH)
