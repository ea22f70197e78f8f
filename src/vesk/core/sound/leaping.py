"""The path through all windows that explains most: it stays at a lag, or leaps to another at a price.

What was recorded in pieces, samples lost between, lies on many lines; where no single one holds, the path says so.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.verify import (
    SPOKE,
    TOLERANCE,
    WIDE_WINDOWS,
    Curves,
    Verified,
    correlate_windows,
    log10_tail,
    repeats,
)
from vesk.core.sound.windows import lay_windows

LEAST_WINDOWS = 3
SWITCH_NATS = 12.0  # evidence that a leap must bring
BESIDE_NATS = 0.35  # the same, for a lag beside
NEVER = -1e9  # what a window says of a lag at which nothing may stay
_LIKELY_ONSETS = 7.0  # robust deviations: nothing that was not shared stood over 6
REACH_S = 0.4  # to either side of a guess
_SELDOM_S, _MOST_WINDOWS = 5.0, 300  # a window so often in a long take, and so many at most
_FAR_APART_S = 2.0  # windows so far apart lie many lags beside each other at any clock's rate
_MOST_SLOPE = 200e-6  # of a clock, whatever what is lost leans the guess to


def path_with_leaps(said: NDArray[np.float32]) -> tuple[NDArray[np.int64], int]:
    """Return each window's lag on the path that explains most, and how often it leaps (Viterbi [1]_).

    It stays, may lie a lag beside the one before (where the rate is not quite known), or leaps; at a price each.

    Parameters
    ----------
    said : ndarray of float32, shape (windows, lags)
        What every window says of every lag, nats: of unit exponential distribution by chance.

    References
    ----------
    .. [1] A. J. Viterbi, IEEE Trans. Inf. Theory 13(2), 1967.
    """
    windows, lags = said.shape
    score = said[0].astype(np.float64)
    whence = np.zeros((windows, lags), np.int32)
    each = np.arange(lags, dtype=np.int32)
    for t in range(1, windows):
        top = int(np.argmax(score))
        best, source = score.copy(), each.copy()
        for beside in (-1, 1):
            moved = np.full(lags, NEVER)
            moved[max(0, beside) : lags + min(0, beside)] = score[max(0, -beside) : lags - max(0, beside)]
            nearer = moved - BESIDE_NATS > best
            best[nearer], source[nearer] = moved[nearer] - BESIDE_NATS, each[nearer] - beside
        leaps = best < score[top] - SWITCH_NATS
        best[leaps], source[leaps] = score[top] - SWITCH_NATS, top
        whence[t], score = source, best + said[t]
    path = np.zeros(windows, np.int64)
    path[-1] = int(np.argmax(score))
    for t in range(windows - 1, 0, -1):
        path[t - 1] = whence[t, path[t]]
    return path, int((np.abs(np.diff(path)) > 1).sum())


def stays_of(path: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Return the windows (rows) of every stretch of a path between two leaps.

    Parameters
    ----------
    path : ndarray of int64, shape (windows,)
        Each one's lag.
    """
    return np.split(np.arange(path.size), np.flatnonzero(np.abs(np.diff(path)) > 1) + 1)


def highest_near(heights: NDArray[np.float32], column: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the column near each window's at which it stands highest: it speaks for all within the tolerance alike.

    Parameters
    ----------
    heights : ndarray of float32, shape (windows, lags)
    column : ndarray of int64, shape (windows,)
    """
    beside = np.arange(-2 * TOLERANCE, 2 * TOLERANCE + 1)
    near = np.clip(column[:, None] + beside, 0, heights.shape[1] - 1)
    highest = np.argmax(np.abs(np.take_along_axis(heights, near, 1)), axis=1)
    return np.asarray(near[np.arange(column.size), highest])


def leap_guess(picture: Hearing, sound: Hearing, guess: Candidate, *, tried: int) -> Verified | None:
    """Look at a coarse candidate that no line verifies: a recording that lost samples again and again lies on many.

    Parameters
    ----------
    picture, sound : Hearing
    guess : Candidate
        Where to look: as good as for `verify`, by its onsets.
    tried : int
        Candidates and channels that are looked at so.

    Returns
    -------
    Verified or None
        The line that most windows lie on. None where onsets say too little.
    """
    most = max(WIDE_WINDOWS, min(_MOST_WINDOWS, int(picture.seconds / _SELDOM_S)))
    cells = lay_windows(picture.seconds, sound.seconds, replace(guess, ppm=0.0), most=most, overlap=0.5)
    if cells is None or guess.score < _LIKELY_ONSETS:
        return None
    centres = cells.centres_s
    far_apart = centres.size > LEAST_WINDOWS and float(centres[1] - centres[0]) > _FAR_APART_S
    about = guess
    if not far_apart:  # at a steady clock's rate: what is lost leans the guess
        leant = guess.ppm * 1e-6 * (float(centres.mean()) - guess.offset_s)
        about = replace(guess, offset_s=guess.offset_s - leant, ppm=0.0)
    curves = correlate_windows(picture, sound, cells, about, int(REACH_S * WORK_RATE))
    leaning, slopes = _shared_slope(curves) if far_apart else (0.0, 1.0)
    column = _along_slope(curves, leaning)
    laid = np.where(column < 0, 0, np.take_along_axis(curves.surprise, np.maximum(column, 0), 1))
    path, leaps = path_with_leaps(laid)
    rows = np.arange(path.size)
    said, met = laid[rows, path].astype(np.float64), highest_near(curves.heights, column[rows, path])
    stays = [stay for stay in stays_of(path) if stay.size >= LEAST_WINDOWS]
    if not stays or not (said > SPOKE).any():
        return None
    windows = int((said > 0).sum())
    price = _price(path, leaps, laid.shape[1] / (2 * TOLERANCE + 1)) + float(np.log(max(1, tried) * slopes))
    alarm = min(0.0, log10_tail(float(said.sum()), windows) + price / float(np.log(10)))
    level, slope, middle = _line_of(curves, met, stays)
    heights = curves.heights[rows, met]
    polarity = -1 if float((np.sign(heights) * said).sum()) < 0 else 1
    along = curves.along(level + slope * (curves.at_s - middle)).astype(np.float64)
    clarity = float(np.abs(heights[said > SPOKE]).mean())
    return Verified(
        level, slope, middle, float(said.sum()) - windows, float(windows), alarm,
        *repeats(curves, (curves.first + met * curves.step) / WORK_RATE, polarity),
        polarity, clarity, curves.at_s, along, leaps=leaps,
    )  # fmt: skip


def _shared_slope(curves: Curves) -> tuple[float, float]:
    """Return by how much the offset grows a second wherever nothing is lost, and how many such slopes were asked.

    Windows that lie evenly apart are correlated with the next over all lags: what stays is as many lags on everywhere.
    """
    strong = np.maximum(curves.surprise - np.float32(SPOKE), 0)
    lags = strong.shape[1]
    spectra = fft.rfft(strong, fft.next_fast_len(2 * lags, real=True), axis=1)
    hop_s, first = float(np.diff(curves.at_s).mean()), float(np.diff(curves.first).mean())
    shared = fft.irfft((np.conj(spectra[:-1]) * spectra[1:]).sum(axis=0))
    most, steady = _MOST_SLOPE * hop_s * WORK_RATE / curves.step, -first / curves.step
    asked = np.arange(max(1 - lags, int(steady - most) - 1), min(lags, int(steady + most) + 2))
    shared = shared[asked]  # so many lags on, or back
    top = int(np.argmax(shared))
    near = slice(max(0, top - 2 * TOLERANCE), top + 2 * TOLERANCE + 1)
    on = float(asked[near] @ shared[near]) / max(float(shared[near].sum()), 1e-9)
    return (on * curves.step + first) / WORK_RATE / hop_s, asked.size / (2 * TOLERANCE + 1)


def _along_slope(curves: Curves, slope: float) -> NDArray[np.int64]:
    """Return each window's columns that lie at the same lag along a slope (windows, lags); -1 beyond what was asked."""
    middle = curves.at_s.size // 2
    own = curves.columns(curves.first[middle] / WORK_RATE + slope * (curves.at_s - curves.at_s[middle]))
    column = own[:, None] + np.arange(-int(own.max()), curves.surprise.shape[1] - int(own.min()))
    return np.where((column < 0) | (column >= curves.surprise.shape[1]), -1, column)


def _price(path: NDArray[np.int64], leaps: int, lags: float) -> float:
    """Return what saying a path costs, nats: a path of that price is one of as many as its exponential (Kraft 1949).

    A lag to begin with; then at every window whether it leaps, which is seldom, and where to, or else stays or not.
    """
    seldom = float(np.exp(np.log(lags) - SWITCH_NATS))  # what the price of a leap says of it, its lag taken out
    others = path.size - 1 - leaps
    beside = int((np.abs(np.diff(path)) == 1).sum())
    stays = others * float(np.log1p(2 * np.exp(-BESIDE_NATS)) - np.log1p(-seldom)) + beside * BESIDE_NATS
    return float(np.log(lags)) + leaps * SWITCH_NATS + stays


def _line_of(curves: Curves, path: NDArray[np.int64], stays: list[NDArray[np.int64]]) -> tuple[float, float, float]:
    """Return the line (level at the middle, slope, middle) of the longest stay, at the slope that all of them share."""
    at, offset = curves.at_s, (curves.first + path * curves.step) / WORK_RATE
    x, y = (np.concatenate([one[stay] - one[stay].mean() for stay in stays]) for one in (at, offset))
    slope, middle = float(x @ y / max(float(x @ x), 1e-9)), float(at.mean())
    most = max(stays, key=len)
    return float(np.median(offset[most] - slope * (at[most] - middle))), slope, middle
