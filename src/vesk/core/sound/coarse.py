"""Coarse search by onsets: where, to about 10 ms, two recordings could share sound.

Segments of the shorter recording vote, along a bank of clock drifts, for the
offset at which their onsets fall together. The longer recording's spectra are
computed once, in blocks that fit a core's cache, and serve every segment,
every rate hypothesis and every other recording it is compared with.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from math import ceil

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.features import FEATURE_RATE

SEGMENT_S = 20.0
MAX_SEGMENTS = 12
MAX_PPM = 600.0  # what segments follow around a rate hypothesis
MIN_OVERLAP_S = 1.5
LONG_S = 2400.0  # beyond this two rows and two bands are taken together: four times quicker, 20 ms steps
CLEAR_ONSETS = 20.0  # robust deviations: nothing that was not shared stood over 6, other takes of the lines over 15
_ONSETS_LOG10 = -3.0  # what such onsets say by themselves, at least
_APART_S = 0.15
_BLOCK_ROWS = 8192
_AT_ONCE = 4  # blocks
_LENGTHS = 4  # of segments, whose weights are kept
_TOLD = 20_000  # places that tell what is usual, at most
_STANDS_OUT = 3.0  # robust deviations
_VOTES = 6_000_000  # table cells that voting may cost before lags are pooled


@dataclass(frozen=True, slots=True)
class Candidate:
    """A place where the sounds might fall together.

    Attributes
    ----------
    offset_s : float
        Picture time of sound sample 0, seconds.
    ppm : float
        Rate error of the sound against the picture that fitted best.
    score : float
        Height above the usual, in robust standard deviations of all places searched.
    """

    offset_s: float
    ppm: float
    score: float


def credited(log10_false_alarm: float, score: float) -> float:
    """Return what the waveform says of a place with what its onsets say.

    Where the waveform says next to nothing, onsets alone settle nothing: two takes of the same lines have a rhythm
    in common.

    Parameters
    ----------
    log10_false_alarm : float
        Of the waveform.
    score : float
        Of the onsets, at the nominal rate, in robust deviations.
    """
    counts = score >= CLEAR_ONSETS and log10_false_alarm < _ONSETS_LOG10
    return log10_false_alarm + _ONSETS_LOG10 if counts else min(log10_false_alarm, 0.0)


@dataclass(frozen=True, slots=True)
class Spectra:
    """A recording's features, transformed once to be searched many times.

    Attributes
    ----------
    blocks : ndarray of complex64, shape (bands, blocks, bins)
        Overlapping blocks; block *b* begins at row ``b * hop - lead``.
    energy : ndarray of float64, shape (rows + 1,)
        Running sum of the rows' energies.
    rows, size, hop, lead : int
        Rows described; rows of a transform; rows from block to block; silent rows before the first.
    rate : float
        Rows a second.
    """

    blocks: NDArray[np.complex64]
    energy: NDArray[np.float64]
    rows: int
    size: int
    hop: int
    lead: int
    rate: float
    _weights: dict[int, NDArray[np.float32]] = field(default_factory=dict, repr=False, compare=False)

    def weights(self, length: int) -> NDArray[np.float32]:
        """Return what to multiply a segment's products with at each lag; kept, since takes ask for the same again.

        Parameters
        ----------
        length : int
            Rows of the segment.

        Returns
        -------
        ndarray of float32, shape (length + rows - 1,)
            Two by the root of the energy that meets a segment there; 0 where less than `MIN_OVERLAP_S` does.
        """
        found = self._weights.get(length)
        if found is None:
            # Entry k: rows k - length + 1 to k are met, as far as there are any.
            met = np.concatenate([self.energy[1:], np.full(length - 1, self.energy[-1])])
            met[length - 1 :] -= self.energy[:-1]
            enough = self.energy[-1] / max(self.rows, 1) * min(length, MIN_OVERLAP_S * self.rate)
            found = np.where(met > enough, 2 / np.sqrt(np.maximum(met, 1e-12)), 0.0).astype(np.float32)
            while len(self._weights) >= _LENGTHS:
                self._weights.pop(next(iter(self._weights)))
            self._weights[length] = found
        return found


def pooled(features: NDArray[np.float16], by: int) -> NDArray[np.float32]:
    """Take `by` rows and `by` bands together, keeping unit variance as far as they move together.

    Parameters
    ----------
    features : ndarray of float16
        Rows a feature step apart, one column a band.
    by : int
        How many rows, and how many bands, become one.
    """
    values = features.astype(np.float32)
    if by == 1:
        return values
    rows = values.shape[0] // by * by
    return np.asarray(values[:rows].reshape(rows // by, by, -1, by).sum(axis=(1, 3)) / by)


def transform(values: NDArray[np.float32], rate: float, *, segment_s: float = SEGMENT_S) -> Spectra:
    """Transform features (rows, bands) at `rate` rows a second, to be searched for segments of `segment_s`.

    Parameters
    ----------
    values : ndarray of float32
        Features (rows, bands).
    rate : float
        Rows a second.
    segment_s : float
        Length of the segments that will be searched for, seconds.
    """
    lead = ceil(segment_s * rate)
    rows, bands = values.shape
    size = min(_BLOCK_ROWS, fft.next_fast_len(rows + 2 * lead, real=True))
    hop = size - lead
    count = max(1, ceil((rows + lead) / hop))
    padded = np.zeros((bands, lead + count * hop + lead), np.float32)
    padded[:, lead : lead + rows] = values.T
    blocks = np.empty((bands, count, size // 2 + 1), np.complex64)
    for number in range(count):
        blocks[:, number] = fft.rfft(padded[:, number * hop : number * hop + size], size, axis=1)
    energy = np.concatenate([[0.0], np.cumsum(np.einsum("ij,ij->i", values, values, dtype=np.float64))])
    return Spectra(blocks, energy, rows, size, hop, lead, rate)


def correlate(spectra: Spectra, segment: NDArray[np.float32]) -> NDArray[np.float32]:
    """Correlate a segment (length, bands) with a transformed recording, all bands together.

    Parameters
    ----------
    spectra : Spectra
        The transformed recording.
    segment : ndarray of float32
        Features (length, bands), no longer than was said when transforming.

    Returns
    -------
    ndarray of float32, shape (length + rows - 1,)
        Entry *k*: the segment's first row meets row ``k - length + 1``; divided by the root of
        the energy that met there (zero where less than `MIN_OVERLAP_S` did): about unit variance
        under chance, since bands move together and about a quarter of them counts as independent.
    """
    length = segment.shape[0]
    own = np.conj(fft.rfft(np.ascontiguousarray(segment.T), spectra.size, axis=1))
    parts = fft.irfft(_over_bands(spectra.blocks, own), spectra.size, axis=1)[:, : spectra.hop]
    # Row r of the padded recording is row r - lead; the first lag wanted is -(length - 1).
    flat = parts.reshape(-1)[spectra.lead - length + 1 :][: spectra.rows + length - 1]
    own_energy = float(np.einsum("ij,ij->", segment, segment)) / length
    return np.asarray(flat * (spectra.weights(length) * np.float32(1 / np.sqrt(max(own_energy, 1e-12)))), np.float32)


def _over_bands(blocks: NDArray[np.complex64], own: NDArray[np.complex64]) -> NDArray[np.complex64]:
    """Sum products over bands, a few blocks at a time: these stay in a core's cache while bands are added."""
    bands, count, bins = blocks.shape
    total = np.empty((count, bins), np.complex64)
    product = np.empty((_AT_ONCE, bins), np.complex64)
    for first in range(0, count, _AT_ONCE):
        sums = total[first : first + _AT_ONCE]
        np.multiply(blocks[0, first : first + _AT_ONCE], own[0], out=sums)
        for band in range(1, bands):
            part = product[: min(_AT_ONCE, count - first)]
            sums += np.multiply(blocks[band, first : first + _AT_ONCE], own[band], out=part)
    return total


def _segments(values: NDArray[np.float32], length: int) -> list[tuple[int, int]]:
    """Choose the most active stretch of each part of a recording: (start, stop) rows."""
    rows = values.shape[0]
    parts = max(1, min(MAX_SEGMENTS, rows // length))
    activity = np.concatenate([[0.0], np.cumsum(np.maximum(values, 0).sum(axis=1))])
    chosen = []
    for part in range(parts):
        low, high = part * rows // parts, (part + 1) * rows // parts
        size = min(length, high - low)
        starts = np.arange(low, high - size + 1)
        best = int(starts[np.argmax(activity[starts + size] - activity[starts])])
        chosen.append((best, best + size))
    return chosen


def _stretched(segment: NDArray[np.float32], factor: float) -> NDArray[np.float32]:
    """Resample a segment's rows so that it lasts `factor` times as long."""
    if factor == 1.0:
        return segment
    count = max(2, round(segment.shape[0] * factor))
    at = np.minimum(np.arange(count) / factor, segment.shape[0] - 1)
    low = np.minimum(at.astype(int), segment.shape[0] - 2)
    part = (at - low)[:, None].astype(np.float32)
    return np.asarray(segment[low] * (1 - part) + segment[low + 1] * part)


def _vote(
    curves: list[NDArray[np.float32]], centres: list[float], rate: float
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Sum curves along drifts: the best sum at each lag of the middle, and its drift (rows gained a row)."""
    middle = float(np.mean(centres))
    reach = max(abs(centre - middle) for centre in centres)
    steps = ceil(MAX_PPM * 1e-6 * reach)
    pool = 1
    while (2 * ceil(steps / pool) + 1) * len(curves) * (curves[0].size // pool) > _VOTES and pool < rate:
        pool *= 2
    if pool > 1:
        size = curves[0].size // pool * pool
        for _ in range(pool.bit_length() - 1):
            curves = [np.maximum(curve[:size:2], curve[1:size:2]) for curve in curves]
            size //= 2
    steps = ceil(steps / pool)
    drifts = np.linspace(-MAX_PPM, MAX_PPM, 2 * steps + 1) * 1e-6 if steps else np.zeros(1)
    met = [(curve != 0).astype(np.float32) for curve in curves]
    best = np.full(curves[0].size, -np.inf, np.float32)
    which = np.zeros(curves[0].size, np.float32)
    for drift in drifts:
        total = np.zeros(best.size, np.float32)
        count = np.zeros(best.size, np.float32)
        for curve, heard, centre in zip(curves, met, centres, strict=True):
            shift = round(drift * (centre - middle) / pool)
            _add_earlier(total, curve, shift)
            _add_earlier(count, heard, shift)
        np.sqrt(np.maximum(count, 1, out=count), out=count)
        total /= count
        np.copyto(which, drift, where=total > best)
        np.maximum(best, total, out=best)
    return best, which


def _add_earlier(total: NDArray[np.float32], curve: NDArray[np.float32], by: int) -> None:
    """Add a curve, `by` rows earlier, to a sum of the same length."""
    if by > 0:
        total[:-by] += curve[by:]
    elif by < 0:
        total[-by:] += curve[:by]
    else:
        total += curve


def _one_rate(
    spectra: Spectra, short: NDArray[np.float32], factor: float, segments: list[tuple[int, int]]
) -> tuple[NDArray[np.float32], NDArray[np.float32], int, float]:
    """Search one rate: scores by lag of short's (stretched) row 0, drifts, the first lag, rows a score."""
    longest = max(stop - start for start, stop in segments)
    whole = ceil(short.shape[0] * factor)
    low = -whole - longest
    curves, centres = [], []
    for start, stop in segments:
        segment = _stretched(short[start:stop], factor)
        curve = correlate(spectra, segment[: spectra.lead])
        # Entry k: the segment's first row meets row k - length + 1; short's row 0 lies start * factor before.
        at = -min(segment.shape[0], spectra.lead) + 1 - round(start * factor) - low
        laid = np.zeros(spectra.rows + whole + 2 * longest, np.float32)
        laid[at : at + curve.size] = curve[: max(0, laid.size - at)]
        curves.append(laid)
        centres.append((start + stop) / 2 * factor)
    best, which = _vote(curves, centres, spectra.rate)
    pool = laid.size // best.size
    # A drift turns about the segments' middle; scores are for row 0.
    return best, which, low, float(pool) if pool > 1 else 1.0


def _pooling(rows: int) -> int:
    return 2 if rows > LONG_S * FEATURE_RATE else 1


def prepare(features: NDArray[np.float16]) -> Spectra:
    """Transform a recording's features (rows, BANDS), to be searched for shorter ones as often as wanted."""
    by = _pooling(features.shape[0])
    # A segment is stretched by up to a tenth for the rate hypotheses.
    return transform(pooled(features, by), FEATURE_RATE / by, segment_s=SEGMENT_S * 1.1)


def search(
    picture: NDArray[np.float16],
    sound: NDArray[np.float16],
    *,
    around_s: float | None = None,
    reach_s: float = 5.0,
    most: int = 5,
    rates_ppm: tuple[float, ...] = (0.0,),
    prepared: Spectra | None = None,
) -> list[Candidate]:
    """Search for the offsets at which two recordings' onsets fall together.

    Parameters
    ----------
    picture, sound : ndarray, shape (n, BANDS) and (m, BANDS)
        Features of the camera's scratch and of the recorder's sound.
    around_s : float, optional
        Search only within `reach_s` of this offset (seconds); everywhere when None.
    reach_s : float
        Half width of that search, seconds.
    most : int
        Candidates wanted.
    rates_ppm : tuple of float
        Rate errors of the sound to try; each is followed ±600 ppm.
    prepared : Spectra, optional
        What `prepare` makes of the longer one, when it is searched more than once.

    Returns
    -------
    list of Candidate
        Best first; empty when there is nothing to compare.

    Notes
    -----
    Each segment's correlation at a lag is divided by the square root of the energy that met
    there, so that lags with little overlap do not win by chance.
    """
    if min(picture.shape[0], sound.shape[0]) < MIN_OVERLAP_S * FEATURE_RATE:
        return []
    swap = sound.shape[0] > picture.shape[0]
    long, short = (sound, picture) if swap else (picture, sound)
    spectra = prepared or prepare(long)
    rate = spectra.rate
    small = pooled(short, round(FEATURE_RATE / rate))
    segments = _segments(small, int(SEGMENT_S * rate))
    found: list[Candidate] = []
    for ppm in rates_ppm:
        # Long rows a short row: the sound's clock is fast, so the sound is longer than its picture.
        factor = 1 + ppm * 1e-6 if swap else 1 / (1 + ppm * 1e-6)
        best, which, low, step = _one_rate(spectra, small, factor, segments)
        middle = float(np.mean([(a + b) / 2 * factor for a, b in segments]))
        at, heights = _peaks(best, rate / step)
        lags = low + (at + (step - 1) / 2 / step) * step - which[at] * middle
        # Short's row 0 lies `lags` rows into long.
        offsets = -lags / rate / factor if swap else lags / rate
        drifts = ppm + (which[at] if swap else -which[at]) * 1e6
        near = np.ones(at.size, bool) if around_s is None else np.abs(offsets - around_s) <= reach_s
        order = np.flatnonzero(near)[np.argsort(heights[near])[::-1][:most]]
        found += [Candidate(float(offsets[i]), float(drifts[i]), float(heights[i])) for i in order]
    found.sort(key=lambda one: -one.score)
    return distinct(found, most, turn_s=min(picture.shape[0], sound.shape[0]) / FEATURE_RATE / 2)


def _peaks(best: NDArray[np.float32], rate: float) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Return the places that stand over all beside them and far over the usual: which, and how high."""
    met = best[best != 0]
    if not met.size:
        return np.zeros(0, np.int64), np.zeros(0, np.float32)
    met = met[:: 1 + met.size // _TOLD]
    usual = float(np.median(met))
    spread = float(np.median(np.abs(met - usual))) * 1.4826 or 1.0
    least = usual + _STANDS_OUT * spread
    at = np.flatnonzero(best > least)
    wide = max(1, int(_APART_S * rate))
    if at.size > best.size // wide:
        highest = ndimage.maximum_filter1d(best, 2 * wide + 1)[at]
    else:
        highest = sliding_window_view(np.pad(best, wide, constant_values=-np.inf), 2 * wide + 1)[at].max(axis=1)
    at = at[best[at] == highest]
    return at, np.asarray((best[at] - usual) / spread, np.float32)


def distinct(found: list[Candidate], most: int, *, turn_s: float) -> list[Candidate]:
    """Keep the best of candidates that mean the same place, compared `turn_s` seconds into the take.

    Parameters
    ----------
    found : list of Candidate
        Candidates, the best first.
    most : int
        Kept at most.
    turn_s : float
        Seconds into the take at which offsets are compared.
    """
    chosen: list[Candidate] = []
    for one in found:
        apart = (abs(one.offset_s - other.offset_s - (one.ppm - other.ppm) * 1e-6 * turn_s) for other in chosen)
        if all(gap > _APART_S for gap in apart):
            chosen.append(one)
        if len(chosen) == most:
            break
    return chosen
