"""Windows laid over what two recordings share, and their cross-spectra."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import FEATURE_RATE, WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.resample import stretch
from vesk.core.sound.taper import hann

WINDOW_S = 1.5
SHORTEST_S = 0.25
_PAD = 160  # samples either side of what is resampled, so that filters have run in
LEAST_SHARED_S = 1.0
_AT_ONCE = 4  # windows
BAND_HZ = (90.0, 7600.0)


@dataclass(frozen=True, slots=True)
class Stretch:
    """The windows laid over a shared stretch.

    Attributes
    ----------
    starts : ndarray of int64, shape (windows,)
        First picture sample of each at `WORK_RATE`, increasing.
    length : int
        Samples of each.
    head_s, tail_s : float
        Picture times between which the two share time.
    """

    starts: NDArray[np.int64]
    length: int
    head_s: float
    tail_s: float

    @property
    def centres_s(self) -> NDArray[np.float64]:
        """Picture time of each window's middle, seconds."""
        return np.asarray((self.starts + self.length / 2) / WORK_RATE)

    @property
    def independent(self) -> float:
        """Windows that would fit without overlapping: what counts as independent evidence."""
        span = (self.starts[-1] - self.starts[0]) / self.length + 1
        return float(min(self.starts.size, span))


def lay_windows(
    picture_s: float,
    sound_s: float,
    candidate: Candidate,
    *,
    most: int,
    overlap: float = 0.0,
    longest_s: float = WINDOW_S,
) -> Stretch | None:
    """Lay windows over what picture and sound share if `candidate` is right; None when too short.

    Parameters
    ----------
    picture_s, sound_s : float
        Durations, seconds.
    candidate : Candidate
        Where the sound would lie.
    most : int
        Windows at most.
    overlap : float
        Part of a window that the next may repeat, 0 to 1.
    longest_s : float
        Of a window, seconds.
    """
    duration = sound_s / (1 + candidate.ppm * 1e-6)
    head = max(0.0, candidate.offset_s)
    tail = min(picture_s, candidate.offset_s + duration)
    shared = tail - head
    if shared < LEAST_SHARED_S:
        return None
    length_s = min(longest_s, max(SHORTEST_S, shared / 10))
    count = int(min(most, (shared - length_s) / (length_s * (1 - overlap)) + 1))
    starts = np.linspace(head, tail - length_s, count) * WORK_RATE
    length = int(length_s * WORK_RATE)
    return Stretch(np.clip(starts, 0, None).astype(np.int64), length, head, tail)


def with_more(cells: Stretch, near_s: Sequence[float]) -> Stretch:
    """Return windows with more of them between each of some moments and the end it lies near.

    Parameters
    ----------
    cells : Stretch
    near_s : sequence of float
        Picture times, seconds.
    """
    starts = [cells.starts]
    hop, length = cells.length // 6, cells.length
    for moment in near_s:
        low, high = (int(edge * WORK_RATE) for edge in (cells.head_s, cells.tail_s))
        at = int(moment * WORK_RATE)
        if at - low < high - at:
            starts.append(np.arange(low, at - length + hop, hop, dtype=np.int64))
        else:
            starts.append(np.arange(high - length, at - hop, -hop, dtype=np.int64))
    return replace(cells, starts=np.unique(np.concatenate(starts)))


def liveliest(picture: Hearing, sound: Hearing, cells: Stretch, guess: Candidate, most: int) -> NDArray[np.bool_]:
    """Say in which windows most begins to be heard in both recordings: they tell most of whether these share it.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
    guess : Candidate
        Where the sound would lie.
    most : int
        Windows wanted.

    Returns
    -------
    ndarray of bool, shape (windows,)
    """
    begins = cells.starts / WORK_RATE
    own = (begins - guess.offset_s) * (1 + guess.ppm * 1e-6)
    rows = np.arange(0, int(cells.length / WORK_RATE * FEATURE_RATE), 3)  # every third tells as much

    def onsets(features: NDArray[np.float16], at_s: NDArray[np.float64]) -> NDArray[np.float32]:
        met = np.clip((at_s * FEATURE_RATE).astype(int)[:, None] + rows, 0, features.shape[0] - 1)
        return np.asarray(np.maximum(features[met].astype(np.float32), 0).sum(axis=(1, 2)))

    lively = onsets(picture.features, begins) * onsets(sound.features, own)
    chosen = np.zeros(begins.size, bool)
    chosen[np.argsort(-lively, kind="stable")[:most]] = True
    return chosen


def in_band(size: int) -> NDArray[np.bool_]:
    """Return which bins of a transform of `size` lie in the band that sound is matched in."""
    bins = fft.rfftfreq(size, 1 / WORK_RATE)
    return np.asarray((bins >= BAND_HZ[0]) & (bins <= BAND_HZ[1]))


def whitened(x: NDArray[np.complex64], y: NDArray[np.complex64], step_hz: float) -> NDArray[np.complex64]:
    """Return the cross-spectra of windows, each divided by its own magnitudes, smoothed over 8 Hz.

    Parameters
    ----------
    x, y : ndarray of complex64, shape (windows, bins)
        Spectra of picture and sound windows.
    step_hz : float
        From bin to bin.

    Returns
    -------
    ndarray of complex64
        ``y * conj(x)``, whitened. Its inverse transform peaks at the lag of `y` behind `x`.

    References
    ----------
    .. [1] C. H. Knapp and G. C. Carter, "The generalized correlation method for estimation of
       time delay", IEEE Trans. Acoust., Speech, Signal Process. 24(4), 1976 (SCOT).
    """
    width = max(3, round(8.0 / step_hz))

    def smooth(spectra: NDArray[np.complex64]) -> NDArray[np.float32]:
        power = spectra.real**2
        power += spectra.imag**2
        smoothed = ndimage.uniform_filter1d(power, width, axis=-1, output=power)
        # The running sum of the filter may leave a rounding error below zero.
        return np.asarray(np.maximum(smoothed, 0.0, out=smoothed))

    out = np.empty_like(y)
    for first in range(0, x.shape[0], _AT_ONCE):  # so few windows stay in a core's cache
        own, other = x[first : first + _AT_ONCE], y[first : first + _AT_ONCE]
        level = smooth(own)
        level *= smooth(other)
        np.sqrt(level, out=level)
        level += 1e-3 * level.mean(axis=-1, keepdims=True) + np.float32(1e-20)
        whole = np.conj(own)
        whole *= other
        np.multiply(whole, np.reciprocal(level, out=level), out=out[first : first + _AT_ONCE])
    return out


def cut(hearing: Hearing, starts: NDArray[np.int64], length: int, *, taper: bool = True) -> NDArray[np.float32]:
    """Cut windows (windows, length), tapered.

    Parameters
    ----------
    hearing : Hearing
        One channel.
    starts : ndarray of int64
        First samples at the work rate (windows,).
    length : int
        Of each, samples.
    taper : bool
        Whether each fades in and out (Hann).
    """
    out = np.stack([hearing.window(int(start), length) for start in starts])
    return out * hann(length) if taper else out


def cut_at_rate(
    hearing: Hearing, own: NDArray[np.float64], length: int, ratio: float
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Cut windows of a recording whose clock runs at another rate, brought to the picture's.

    Parameters
    ----------
    hearing : Hearing
    own : ndarray of float64, shape (windows,)
        The recording's own sample, with its fraction, at which each window should begin.
    length : int
        Samples of each window at the picture's rate.
    ratio : float
        Picture samples a sample of the recording.

    Returns
    -------
    windows : ndarray of float32, shape (windows, length)
    late : ndarray of float64, shape (windows,)
        Samples, within ±0.5, by which each cut lags what was asked for.
    """
    if abs(ratio - 1.0) * length < 0.02:
        first = np.rint(own).astype(np.int64)
        return cut(hearing, first, length, taper=False), own - first
    first = np.floor(own).astype(np.int64) - _PAD
    count = int(length / ratio) + 2 * _PAD + 2
    span = int(first.max() - first.min()) + count
    if span < first.size * count:  # they overlap: what they cover goes through the resampler once
        out = stretch(hearing.window(int(first.min()), span).reshape(-1, 1), ratio, quality="HQ")[:, 0]
        exact = (own - first.min()) * ratio
        at = np.rint(exact).astype(np.int64)
        return np.stack([out[k : k + length] for k in at]), exact - at
    # One after the other through one resampler: setting it up costs more than a window.
    out = stretch(cut(hearing, first, count, taper=False).reshape(-1, 1), ratio, quality="HQ")[:, 0]
    exact = (np.arange(first.size) * count + own - first) * ratio
    at = np.rint(exact).astype(np.int64)
    return np.stack([out[k : k + length] for k in at]), exact - at
