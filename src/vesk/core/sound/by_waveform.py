"""Coarse search by waveform: slower than by onsets, and about 10 dB more robust."""

from __future__ import annotations

from math import ceil

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate, distinct
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.resample import to_rate

SEGMENT_S = 4.0
MAX_SEGMENTS = 8
MAX_PPM = 600.0
_STEP_PPM = 300.0  # half of it moves a segment's ends by 300 µs: half a period at the band's upper end
_FOLD = 4
_RATE = WORK_RATE // _FOLD  # what lies above 2 kHz rarely agrees where this search is needed
_DENSE = 2 * _RATE  # at which a piece is stretched, along straight lines between its samples
_CELL = 4  # samples at _RATE: lags are gathered into cells of 1 ms
_BLOCK = 1 << 15  # samples at _RATE: a transform that a core's cache holds
_PIECE = 1 << 20  # samples at WORK_RATE brought lower at once
_LARGEST_S = 1800.0  # longer, a search everywhere is left to the onsets
_TOGETHER = 4  # blocks transformed at once: twice as fast as one after the other
_CAP = 8.0
_TOLD = 20_000  # cells that tell what is usual
_BINS = np.arange(_BLOCK // 2 + 1) * (_RATE / _BLOCK)
_BAND = (_BINS >= 150) & (_BINS <= 1800)  # Hz
_SMOOTH = round(40.0 * _BLOCK / _RATE)  # 40 Hz: hum's lines go, a voice's shape stays flat


def _low(hearing: Hearing, first: int, count: int) -> NDArray[np.float32]:
    """Return `count` samples of a recording at `_RATE` from sample `first` on, zero outside it."""
    lower = soxr.ResampleStream(WORK_RATE, _RATE, 1, dtype="float32", quality="HQ")
    begin, end = first * _FOLD, (first + count) * _FOLD
    pieces = [
        lower.resample_chunk(hearing.window(at, min(_PIECE, end - at)), last=at + _PIECE >= end)
        for at in range(begin, end, _PIECE)
    ]
    return np.concatenate(pieces)


def _flat(sound: NDArray[np.float32]) -> NDArray[np.complex64]:
    """Return a block's spectrum, its broad shape and what lies below speech taken out."""
    spectrum = fft.rfft(sound, _BLOCK)
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
    first = max(0, int((head - high) * _RATE))
    last = min(sound.size // _FOLD, ceil((tail - low) * _RATE))
    hop = _BLOCK - ceil(length * 1.1 * _RATE)
    hop -= hop % _CELL
    begins = range(first - _BLOCK + hop, last, hop)
    heard = _low(sound, begins[0], begins[-1] + _BLOCK - begins[0])
    blocks = [
        (some, np.stack([_flat(heard[at - begins[0] :][:_BLOCK]) for at in some]))
        for some in (begins[n : n + _TOGETHER] for n in range(0, len(begins), _TOGETHER))
    ]
    for start in starts:
        piece = to_rate(_low(picture, int(start * _RATE), int(length * _RATE)), _RATE, _DENSE)
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
    """Return a piece at `_RATE` as it lasts on a recorder that runs fast: 1 + p for a picture second.

    Along straight lines between samples: what that takes from the upper band is given back when it is made flat.
    """
    if not ppm:
        return piece[:: _DENSE // _RATE]
    step = _DENSE / _RATE / (1 + ppm * 1e-6)
    at = np.arange(int((piece.size - 2) / step)) * step
    low = at.astype(np.int64)
    part = (at - low).astype(np.float32)
    return np.asarray(piece[low] * (1 - part) + piece[low + 1] * part)


def _add_segment(
    table: NDArray[np.float64],
    segment: NDArray[np.complex64],
    blocks: list[tuple[range, NDArray[np.complex64]]],
    hop: int,
    base: float,
) -> None:
    """Correlate one segment with every block and add its squared heights; offset = base - sound time."""
    best = np.zeros(table.shape[1], np.float32)
    for some, spectra in blocks:
        # Index l: the segment's start meets sound sample some[0] + l; offsets fall as l grows, from block to block too.
        last = int(base * _RATE - some[0]) // _CELL
        count = len(some) * hop // _CELL
        low, high = max(0, last - count + 1), min(best.size, last + 1)
        if low >= high:
            continue
        curves = fft.irfft(spectra * segment, _BLOCK)[:, :hop]
        usual = np.einsum("ij,ij->i", curves, curves)[:, None] / hop
        heights = np.abs(curves, out=curves)
        for _ in range(_CELL.bit_length() - 1):  # the highest of each cell
            heights = np.maximum(heights[:, ::2], heights[:, 1::2])
        heights *= heights
        heights /= np.where(usual > 0, usual, 1)
        part = np.minimum(heights, _CAP**2, out=heights).reshape(-1)[::-1]
        best[low:high] = part[low - (last - count + 1) : part.size - (last + 1 - high)]
    wide = best.copy()  # with what lies beyond a cell's edge
    np.maximum(wide[1:], best[:-1], out=wide[1:])
    np.maximum(wide[:-1], best[1:], out=wide[:-1])
    table[0] += wide
    table[1] += best > 0


def _peaks(
    total: NDArray[np.float64], met: NDArray[np.float64], low: float, ppm: float, middle: float, most: int
) -> list[Candidate]:
    heard = met > 0
    if not heard.any():
        return []
    # A capped, squared maximum of a few cells lies near 5 with a spread of 3 under chance.
    some = np.flatnonzero(heard)[:: 1 + heard.size // _TOLD]
    usual = float(np.median(total[some] / met[some]))
    score = np.where(heard, (total - usual * met) / np.sqrt(np.maximum(met, 1)), 0.0)
    spread = float(np.median(np.abs(score[some] - np.median(score[some])))) * 1.4826 or 1.0
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
