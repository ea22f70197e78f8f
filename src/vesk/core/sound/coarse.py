"""Coarse search: where, to about 10 ms, two recordings could share sound.

Segments of the shorter recording vote, along a bank of clock drifts, for the
offset at which their onsets fall together.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.features import FEATURE_RATE

SEGMENT_S = 20.0
MAX_SEGMENTS = 12
MAX_PPM = 600.0
MIN_OVERLAP_S = 1.5
_APART_S = 0.15


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


def _segments(features: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Choose the most active stretch of each part of a recording: (start, stop) rows."""
    length = int(SEGMENT_S * FEATURE_RATE)
    rows = features.shape[0]
    parts = max(1, min(MAX_SEGMENTS, rows // length))
    activity = np.concatenate([[0.0], np.cumsum(np.maximum(features, 0).sum(axis=1))])
    chosen = []
    for part in range(parts):
        low, high = part * rows // parts, (part + 1) * rows // parts
        size = min(length, high - low)
        starts = np.arange(low, high - size + 1)
        best = int(starts[np.argmax(activity[starts + size] - activity[starts])])
        chosen.append((best, best + size))
    return chosen


def _correlate(
    long: NDArray[np.float32], short: NDArray[np.float32], size: int
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Correlate band by band; return (score, energy) for every lag of `short` in `long`, cyclic."""
    axis = 0
    spectrum = np.zeros(size // 2 + 1, dtype=np.complex64)
    for band in range(long.shape[1]):
        a = fft.rfft(long[:, band], size)
        b = fft.rfft(short[:, band], size)
        spectrum += a * np.conj(b)
    score = fft.irfft(spectrum, size)
    a = fft.rfft((long**2).sum(axis=1), size, axis=axis)
    b = fft.rfft((short**2).sum(axis=1), size, axis=axis)
    energy = fft.irfft(a * np.conj(b), size)
    return score.astype(np.float32), energy.astype(np.float32)


def search(
    picture: NDArray[np.float16],
    sound: NDArray[np.float16],
    *,
    around_s: float | None = None,
    reach_s: float = 5.0,
    most: int = 5,
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

    Returns
    -------
    list of Candidate
        Best first; empty when there is nothing to compare.

    Notes
    -----
    Each segment's correlation at a lag is divided by the square root of the energy that met
    there, so that lags with little overlap do not win by chance; the sum over segments follows
    a drift of up to ±600 ppm.
    """
    if min(picture.shape[0], sound.shape[0]) < MIN_OVERLAP_S * FEATURE_RATE:
        return []
    p, s = picture.astype(np.float32), sound.astype(np.float32)
    swap = s.shape[0] > p.shape[0]
    long, short = (s, p) if swap else (p, s)
    # `lag` = position of short's row 0 in long; from -(short) to +(long).
    low, high = -short.shape[0] + 1, long.shape[0]
    size = fft.next_fast_len(long.shape[0] + int(SEGMENT_S * FEATURE_RATE) + 8, real=True)
    lags = np.arange(low, high)
    curves: list[NDArray[np.float32]] = []
    centres: list[float] = []
    for start, stop in _segments(short):
        score, energy = _correlate(long, short[start:stop], size)
        length = stop - start
        typical = float(np.mean((short[start:stop] ** 2).sum(axis=1)) * np.mean((long**2).sum(axis=1)))
        enough = typical * min(length, MIN_OVERLAP_S * FEATURE_RATE)
        with np.errstate(invalid="ignore", divide="ignore"):
            # Bands move together, so about a quarter of them count as independent.
            z = np.where(energy > enough, score / np.sqrt(np.maximum(energy, 1e-6) / 4.0), 0.0)
        # Segment row `start` of short meets long row lag + start; cyclic index of the FFT.
        where = lags + start
        valid = (where > -length) & (where < long.shape[0])
        curve = np.zeros(lags.size, np.float32)
        curve[valid] = z[where[valid] % size]
        curves.append(curve)
        centres.append((start + stop) / 2 / FEATURE_RATE)
    middle = float(np.mean(centres))
    reach = max(abs(centre - middle) for centre in centres)
    steps = int(np.ceil(MAX_PPM * 1e-6 * reach * FEATURE_RATE))
    drifts = np.linspace(-MAX_PPM, MAX_PPM, 2 * steps + 1) if steps else np.zeros(1)
    best = np.full(lags.size, -np.inf, np.float32)
    best_drift = np.zeros(lags.size, np.float32)
    for drift in drifts:
        total = np.zeros(lags.size, np.float32)
        met = np.zeros(lags.size, np.float32)
        for curve, centre in zip(curves, centres, strict=True):
            shift = round(drift * 1e-6 * (centre - middle) * FEATURE_RATE)
            moved = np.roll(curve, -shift)
            total += moved
            met += moved != 0
        total /= np.sqrt(np.maximum(met, 1))
        better = total > best
        best[better], best_drift[better] = total[better], drift
    spread = float(np.median(np.abs(best - np.median(best)))) * 1.4826 or 1.0
    height = (best - np.median(best)) / spread
    found = ndimage.maximum_filter1d(height, 2 * int(_APART_S * FEATURE_RATE) + 1) == height
    # Offset of the sound on picture time; `lag` counts the short one inside the long one.
    slope = best_drift * 1e-6  # long seconds gained per short second
    at_start = lags / FEATURE_RATE - slope * middle
    offsets = -at_start if swap else at_start
    if around_s is not None:
        found &= np.abs(offsets - around_s) <= reach_s
    index = np.flatnonzero(found & (height > 3.0))
    index = index[np.argsort(height[index])[::-1][:most]]
    sign = 1.0 if swap else -1.0
    return [Candidate(float(offsets[i]), sign * float(best_drift[i]), float(height[i])) for i in index]
