"""Timecode that leaks from its own channel into one that should be heard: how loud it is, and what is heard beside it.

Both channels are one recorder's, so what leaks is the timecode channel through a filter that stays: nothing else that
the other holds has its phase.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.ltc.listen import LtcListener
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.taper import hann

_LAGS = 12  # samples either way: wiring and coders shift by a few
_SURE = 8.0  # standard errors
_REPEATS = 16  # neighbouring samples of such a signal repeat each other about as often
_SMOOTH_HZ = 10.0  # a filter of wires and coders is smooth: what a voice has in common with timecode is not
_BLOCK = 4 * WORK_RATE
_LEAST_LEFT, _MOST_LEFT = 10 ** (-45 / 10), 10 ** (-3 / 10)  # of the power: less is a copy, more is another timecode


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


def mixed_with_timecode(rows: Sequence[NDArray[np.float32]], sample_rate: int) -> tuple[int, set[int]]:
    """Tell channels that carry timecode alone from those in which it is louder than what should be heard.

    Parameters
    ----------
    rows : sequence of ndarray of float32, shape (n,)
        The same stretch, some seconds, of every channel on which timecode is read.
    sample_rate : int
        Of them, Hz.

    Returns
    -------
    own : int
        Which carries timecode at its purest.
    mixed : set of int
        Which hold something else beside that one's timecode.
    """
    # Timecode has two levels: a voice on it makes peaks.
    own = int(np.argmin([_peakedness(row) for row in rows]))
    mixed = set()
    for number, row in enumerate(rows):
        if number == own or crosstalk_db(rows[own], row) is None:
            continue
        left = _left(rows[own] * hann(row.size), row * hann(row.size), sample_rate)
        share = float(left @ left) / max(float((row * hann(row.size)) @ (row * hann(row.size))), 1e-30)
        if _LEAST_LEFT < share < _MOST_LEFT and not _reads(left, sample_rate):
            mixed.add(number)
    return own, mixed


def without_timecode(hearing: Hearing, timecode: Hearing) -> Iterator[NDArray[np.float32]]:
    """Yield what is heard on a channel beside the timecode that leaks into it.

    Parameters
    ----------
    hearing, timecode : Hearing
        Two channels of one recording.

    Yields
    ------
    ndarray of float32, shape (n,)
        At `WORK_RATE`, full scale ±1, in order; all together as long as the channel.
    """
    hop = _BLOCK // 2
    fade = np.sqrt(hann(_BLOCK + 1)[:-1])
    before = np.zeros(hop, np.float32)
    for start in range(-hop, hearing.size, hop):
        own, other = (one.window(start, _BLOCK) * fade for one in (timecode, hearing))
        left = _left(own, other, WORK_RATE) * fade * np.float32(hearing.unit)
        if start >= 0:
            yield (before + left[:hop])[: hearing.size - start]
        before = left[hop:]


def _left(timecode: NDArray[np.float32], other: NDArray[np.float32], sample_rate: int) -> NDArray[np.float32]:
    """Return what is left of a faded block once all that timecode tells of it is taken out."""
    own, both = fft.rfft(timecode), fft.rfft(other)
    wide = max(3, round(2 * _SMOOTH_HZ * timecode.size / sample_rate))
    power = ndimage.uniform_filter1d(own.real**2 + own.imag**2, wide)
    cross = both * np.conj(own)
    shared = ndimage.uniform_filter1d(cross.real, wide) + 1j * ndimage.uniform_filter1d(cross.imag, wide)
    both -= own * (shared / (np.maximum(power, 0) + 1e-9 * float(power.mean()) + 1e-30))
    return np.asarray(fft.irfft(both, timecode.size), np.float32)


def _peakedness(row: NDArray[np.float32]) -> float:
    power = row.astype(np.float64) ** 2
    return float((power**2).mean() / max(float(power.mean()) ** 2, 1e-30))


def _reads(sound: NDArray[np.float32], sample_rate: int) -> bool:
    listener = LtcListener(sample_rate)
    listener.feed(sound)
    return listener.finish() is not None
