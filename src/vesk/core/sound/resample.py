"""Resampling by a constant rate and shifting by a part of a sample."""

from __future__ import annotations

from functools import lru_cache
from math import ceil
from typing import Protocol, cast

import numpy as np
import soxr
from numpy.typing import NDArray

from vesk.core.sound.filters import filtered, of_taps

_HALF = 32  # taps on either side: -120 dB up to 0.9 of the band
_SOFT = 0.025  # of the new rate: how far to either side of its half the band ends
_STOP_DB = 77.0
_WHOLE = range(2, 13)  # parts of a rate that are made by a filter of our own
_MADE, _AT_ONCE = 48, 512  # samples that a row of a product of matrices makes; rows that stay in a core's cache


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


class Lowering(Protocol):
    """Brings one channel that passes by to a lower rate."""

    def resample_chunk(self, sound: NDArray[np.float32], *, last: bool = False) -> NDArray[np.float32]:
        """Take the next samples, float32 (n,), and return those that can be told by now; with the `last`, all."""
        ...


def lowering(sample_rate: int, rate: int) -> Lowering:
    """Return what brings a channel that passes by from `sample_rate` to `rate`, Hz, without delay."""
    by, rest = divmod(sample_rate, rate)
    if rest or by not in _WHOLE:
        return cast("Lowering", soxr.ResampleStream(sample_rate, rate, 1, dtype="float32"))
    return Decimator(by)


class Decimator:
    """One channel brought to a whole part of its rate as it passes by; no delay.

    Flat to 1e-4 up to 0.475 of the new rate; what lies above 0.525 of it comes out 77 dB lower.

    Parameters
    ----------
    by : int
        One sample of so many is kept.

    Notes
    -----
    A linear-phase filter [1]_, as a product of matrices: a row of 48 samples made is what lies around them times the
    taps, each column a sample later. It takes half as many sums again as are needed, and two thirds of the time of a
    general resampler: nothing multiplies matrices as quickly as what is made for that.

    References
    ----------
    .. [1] J. F. Kaiser, "Nonrecursive digital filter design using the I0-sinh window function", ISCAS 1974.
    """

    def __init__(self, by: int) -> None:
        self._parts = _taps(by)
        self._held = np.zeros(_reach(by), np.float32)
        self._by, self._fed, self._made = by, 0, 0

    def resample_chunk(self, sound: NDArray[np.float32], *, last: bool = False) -> NDArray[np.float32]:
        """See `Lowering`."""
        self._fed += sound.size
        used = self._by * _MADE
        beyond = np.zeros(used * len(self._parts) if last else 0, np.float32)
        piece = np.concatenate([self._held, sound, beyond])
        rows = piece[: piece.size // used * used].reshape(-1, used)
        count = max(0, rows.shape[0] - len(self._parts) + 1)
        made = np.empty((count, _MADE), np.float32)
        for at in range(0, count, _AT_ONCE):
            out = made[at : at + _AT_ONCE]
            np.matmul(rows[at : at + out.shape[0]], self._parts[0], out=out)
            for later, part in enumerate(self._parts[1:], 1):
                out += rows[at + later : at + later + out.shape[0]] @ part
        self._held = piece[count * used :].copy()
        due = round(self._fed / self._by) - self._made if last else made.size
        self._made += due
        return made.reshape(-1)[:due]


def _reach(by: int) -> int:
    """Return how far the decimator's filter reaches to either side, samples: -77 dB by Kaiser's formula."""
    return ceil((_STOP_DB - 8) / (2.285 * 4 * np.pi * _SOFT / by) / 2)


@lru_cache(maxsize=4)
def _taps(by: int) -> tuple[NDArray[np.float32], ...]:
    """Return the filter as matrices (by * _MADE, _MADE): the first takes a row of samples, the next the one after."""
    reach = _reach(by)
    at = np.arange(-reach, reach + 1)
    taps = np.sinc(at / by) * np.kaiser(2 * reach + 1, 0.1102 * (_STOP_DB - 8.7))
    taps /= taps.sum()
    used = by * _MADE
    whole = np.zeros((ceil((by * (_MADE - 1) + taps.size) / used) * used, _MADE))
    for column in range(_MADE):
        whole[by * column : by * column + taps.size, column] = taps
    return tuple(np.ascontiguousarray(part, np.float32) for part in whole.reshape(-1, used, _MADE))
