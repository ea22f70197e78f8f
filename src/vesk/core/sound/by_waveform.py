"""Coarse search by waveform: slower than by onsets, and about 10 dB more robust."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE

SEGMENT_S = 8.0
MAX_SEGMENTS = 8
_CELL = 16  # samples: lags are gathered into cells of 1 ms
_LARGEST = 1 << 25  # samples: half an hour; beyond it a search everywhere is left to the onsets
_CAP = 8.0


def _flat(sound: NDArray[np.float32], size: int) -> NDArray[np.complex64]:
    """Return the spectrum with its broad shape taken out, and what lies outside speech."""
    spectrum = fft.rfft(sound, size)
    level = np.sqrt(np.maximum(ndimage.uniform_filter1d(np.abs(spectrum) ** 2, 65), 0))
    bins = fft.rfftfreq(size, 1 / WORK_RATE)
    spectrum /= level + 1e-3 * level.mean() + 1e-20
    spectrum[(bins < 100) | (bins > 5000)] = 0
    return np.asarray(spectrum, dtype=np.complex64)


def search_by_waveform(
    picture: NDArray[np.float32],
    sound: NDArray[np.float32],
    *,
    around_s: float | None = None,
    reach_s: float = 5.0,
    most: int = 4,
) -> list[Candidate]:
    """Search for the offsets at which two recordings' waveforms fall together.

    Parameters
    ----------
    picture, sound : ndarray of float32, shape (n,) and (m,)
        One channel each at `WORK_RATE`.
    around_s, reach_s : float
        Search within `reach_s` of this offset (seconds); everywhere when `around_s` is None.
    most : int
        Candidates wanted.

    Returns
    -------
    list of Candidate
        Best first, without drift (found by the windows afterwards); empty when there is nothing
        to compare or a search everywhere would be too long.

    Notes
    -----
    Each loud segment of the picture's scratch is correlated after whitening; heights are capped,
    gathered into cells of 1 ms and summed over segments, neighbours included for drift.
    """
    length = int(SEGMENT_S * WORK_RATE)
    if around_s is None and max(picture.size, sound.size) > _LARGEST:
        return []
    low = -sound.size if around_s is None else int((around_s - reach_s) * WORK_RATE)
    high = picture.size if around_s is None else int((around_s + reach_s) * WORK_RATE)
    head, tail = max(0, low), min(picture.size, high + sound.size)
    if tail - head < WORK_RATE:
        return []
    count = max(1, min(MAX_SEGMENTS, (tail - head) // length))
    length = min(length, tail - head)
    cells = (high - low) // _CELL + 1
    total = np.zeros(cells)
    met = np.zeros(cells)
    for start in np.linspace(head, tail - length, count).astype(int):
        # Offsets low..high put the segment's start at sound samples start - high .. start - low.
        first, last = max(0, start - high), min(sound.size, start + length - low)
        if last - first < WORK_RATE:
            continue
        size = fft.next_fast_len(last - first + length, real=True)
        curve = fft.irfft(_flat(sound[first:last], size) * np.conj(_flat(picture[start : start + length], size)), size)
        curve = curve / (float(np.sqrt(np.mean(curve**2))) or 1.0)
        # Index l: the segment's start meets sound sample first + l; the offset is start - first - l.
        lags = np.arange(-length, last - first)
        offsets = start - first - lags
        inside = (offsets >= low) & (offsets < high)
        cell = (offsets[inside] - low) // _CELL
        best = np.zeros(cells)
        np.maximum.at(best, cell, np.minimum(curve[lags[inside] % size], _CAP))
        total += ndimage.maximum_filter1d(best, 5)
        met += np.bincount(cell, minlength=cells) > 0
    score = total / np.sqrt(np.maximum(met, 1))
    spread = float(np.median(np.abs(score - np.median(score)))) * 1.4826 or 1.0
    height = (score - np.median(score)) / spread
    peak = (ndimage.maximum_filter1d(height, 101) == height) & (height > 3)
    index = np.flatnonzero(peak)
    index = index[np.argsort(height[index])[::-1]]
    chosen: list[Candidate] = []
    for i in index:
        offset = (low + (int(i) + 0.5) * _CELL) / WORK_RATE
        if all(abs(offset - other.offset_s) > 0.1 for other in chosen):
            chosen.append(Candidate(offset, 0.0, float(height[i])))
        if len(chosen) == most:
            break
    return chosen
