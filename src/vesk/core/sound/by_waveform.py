"""Coarse search by waveform: slower than by onsets, and about 10 dB more robust."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate, distinct
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing

SEGMENT_S = 4.0
MAX_SEGMENTS = 8
MAX_PPM = 600.0
_STEP_PPM = 300.0  # half of it moves a segment's ends by 300 µs: half a period at the band's upper end
_FOLD = 4
_RATE = WORK_RATE // _FOLD  # what lies above 2 kHz rarely agrees where this search is needed
_CELL = 4  # samples at _RATE: lags are gathered into cells of 1 ms
_BLOCK = 1 << 17  # samples at WORK_RATE: a transform that a core's cache holds
_LARGEST_S = 1800.0  # longer, a search everywhere is left to the onsets
_TOGETHER = 4  # blocks transformed at once: twice as fast as one after the other
_CAP = 8.0
_BINS = np.arange(_BLOCK // (2 * _FOLD) + 1) * (WORK_RATE / _BLOCK)
_BAND = (_BINS >= 150) & (_BINS <= 1800)  # Hz
_SMOOTH = round(40.0 * _BLOCK / WORK_RATE)  # 40 Hz: hum's lines go, a voice's shape stays flat


def _flat(sound: NDArray[np.float32]) -> NDArray[np.complex64]:
    """Return a block's spectrum below 2 kHz, its broad shape and what lies below speech taken out."""
    spectrum = fft.rfft(sound, _BLOCK)[: _BINS.size]
    level = np.sqrt(np.maximum(ndimage.uniform_filter1d(spectrum.real**2 + spectrum.imag**2, _SMOOTH), 0))
    spectrum /= level + 1e-3 * level.mean() + 1e-20
    spectrum[~_BAND] = 0
    return np.asarray(spectrum, dtype=np.complex64)


def search_by_waveform(
    picture: Hearing,
    sound: Hearing,
    *,
    around_s: float | None = None,
    reach_s: float = 5.0,
    most: int = 5,
    rates_ppm: tuple[float, ...] = (0.0,),
) -> list[Candidate]:
    """Search for the offsets at which two recordings' waveforms fall together.

    Parameters
    ----------
    picture, sound : Hearing
    around_s, reach_s : float
        Search within `reach_s` of this offset (seconds); everywhere when `around_s` is None.
    most : int
        Candidates wanted.
    rates_ppm : tuple of float
        Rate errors of the sound to try; each is followed ±600 ppm.

    Returns
    -------
    list of Candidate
        Best first; empty when there is nothing to compare or a search everywhere would be too long.

    Notes
    -----
    Segments of the picture's scratch, stretched along a bank of drifts, are correlated after
    whitening; squared heights are capped, gathered into cells of 1 ms and summed over the
    segments along each drift. Within a segment the sum is coherent, between them it is not.
    """
    if around_s is None and max(picture.seconds, sound.seconds) > _LARGEST_S:
        return []
    low = -sound.seconds if around_s is None else around_s - reach_s
    high = picture.seconds if around_s is None else around_s + reach_s
    head, tail = max(0.0, low), min(picture.seconds, high + sound.seconds)
    if tail - head < 1.0:
        return []
    length = min(SEGMENT_S, (tail - head) / 2)
    count = max(2, min(MAX_SEGMENTS, int((tail - head) / length)))
    starts = np.linspace(head, tail - length, count)
    middle = float(starts.mean()) + length / 2
    bank = np.arange(-MAX_PPM, MAX_PPM + 1, _STEP_PPM * SEGMENT_S / length)
    bank -= bank[np.argmin(np.abs(bank))]
    cells = int((high - low) * _RATE) // _CELL + 1
    tables = {base + float(drift): np.zeros((2, cells)) for base in rates_ppm for drift in bank}
    first = max(0, int((head - high) * WORK_RATE))
    last = min(sound.size, ceil((tail - low) * WORK_RATE))
    hop = _BLOCK - ceil(length * 1.1 * WORK_RATE)
    hop -= hop % (_FOLD * _CELL)
    begins = range(first - _BLOCK + hop, last, hop)
    blocks = [
        (some, np.stack([_flat(sound.window(at, _BLOCK)) for at in some]))
        for some in (begins[n : n + _TOGETHER] for n in range(0, len(begins), _TOGETHER))
    ]
    for start in starts:
        piece = picture.window(int(start * WORK_RATE), int(length * WORK_RATE))
        for ppm, table in tables.items():
            segment = np.conj(_flat(_stretched(piece, ppm)))
            # Offsets are compared at the take's middle: drift moves them from segment to segment.
            base = float(start) + ppm * 1e-6 * (float(start) - middle) - low
            _add_segment(table, segment, blocks, hop, base)
    found: list[Candidate] = []
    for ppm, (total, met) in tables.items():
        found += _peaks(total, met, low, ppm, middle, most)
    found.sort(key=lambda one: -one.score)
    return distinct(found, most, turn_s=middle)


def _stretched(piece: NDArray[np.float32], ppm: float) -> NDArray[np.float32]:
    """Return a piece as it lasts on a recorder that runs fast: 1 + p for a picture second.

    Along straight lines between samples: what that takes from the upper band is given back when it is made flat.
    """
    if not ppm:
        return piece
    at = np.arange(round(piece.size * (1 + ppm * 1e-6))) / (1 + ppm * 1e-6)
    return np.interp(at, np.arange(piece.size), piece).astype(np.float32)


def _add_segment(
    table: NDArray[np.float64],
    segment: NDArray[np.complex64],
    blocks: list[tuple[range, NDArray[np.complex64]]],
    hop: int,
    base: float,
) -> None:
    """Correlate one segment with every block and add its squared heights; offset = base - sound time."""
    best = np.zeros(table.shape[1])
    shifted = (
        (at, curve)
        for some, spectra in blocks
        if _reached(some, base, best.size, hop)
        for at, curve in zip(some, fft.irfft(spectra * segment, _BLOCK // _FOLD), strict=True)
    )
    for at, whole in shifted:
        # Index l: the segment's start meets sound sample at + _FOLD l; offsets fall as l grows.
        last = int((base - at / WORK_RATE) * _RATE) // _CELL
        count = hop // _FOLD // _CELL
        if last < 0 or last - count >= best.size:
            continue
        curve = whole[: hop // _FOLD]
        usual = float(np.dot(curve, curve)) / curve.size or 1.0
        heights = curve * curve
        while heights.size > count:  # the highest of each cell
            heights = np.maximum(heights[::2], heights[1::2])
        heights = heights[::-1]
        low, high = max(0, last - count + 1), min(best.size, last + 1)
        part = heights[low - (last - count + 1) : heights.size - (last + 1 - high)]
        np.maximum(best[low:high], np.minimum(part / usual, _CAP**2), out=best[low:high])
    table[0] += ndimage.maximum_filter1d(best, 3)
    table[1] += best > 0


def _reached(some: range, base: float, cells: int, hop: int) -> bool:
    """Say whether any of some blocks can hold what a segment is laid at, within so many cells."""
    latest, earliest = (int((base - at / WORK_RATE) * _RATE) // _CELL for at in (some[0], some[-1]))
    return latest >= 0 and earliest - hop // _FOLD // _CELL < cells


def _peaks(
    total: NDArray[np.float64], met: NDArray[np.float64], low: float, ppm: float, middle: float, most: int
) -> list[Candidate]:
    heard = met > 0
    if not heard.any():
        return []
    # A capped, squared maximum of a few cells lies near 5 with a spread of 3 under chance.
    usual = float(np.median(total[heard] / met[heard]))
    score = np.where(heard, (total - usual * met) / np.sqrt(np.maximum(met, 1)), 0.0)
    spread = float(np.median(np.abs(score[heard] - np.median(score[heard])))) * 1.4826 or 1.0
    height = score / spread
    index = np.flatnonzero((ndimage.maximum_filter1d(height, 101) == height) & (height > 3))
    index = index[np.argsort(height[index])[::-1][:most]]
    rate = ppm * 1e-6
    # Found at the picture's middle: carried back to the sound's first sample.
    at = low + (index + 0.5) * _CELL / _RATE
    return [
        Candidate(float((a + rate * middle) / (1 + rate)), ppm, float(height[i]))
        for a, i in zip(at, index, strict=True)
    ]
