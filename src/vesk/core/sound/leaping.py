"""The path through all windows that explains most: it stays at a lag, or leaps to another at a price.

What was recorded in pieces, samples lost between, lies on many lines; where no single one holds, the path says so.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

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
_REACH_S = 0.4


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
    cells = lay_windows(picture.seconds, sound.seconds, replace(guess, ppm=0.0), most=WIDE_WINDOWS, overlap=0.5)
    if cells is None or guess.score < _LIKELY_ONSETS:
        return None
    centre = float(cells.centres_s.mean())
    about = replace(guess, offset_s=guess.offset_s - guess.ppm * 1e-6 * (centre - guess.offset_s), ppm=0.0)
    curves = correlate_windows(picture, sound, cells, about, int(_REACH_S * WORK_RATE))
    path, leaps = path_with_leaps(curves.surprise)
    rows = np.arange(path.size)
    said = curves.surprise[rows, path].astype(np.float64)
    stays = [stay for stay in stays_of(path) if stay.size >= LEAST_WINDOWS]
    if not stays or not (said > SPOKE).any():
        return None
    windows = int((said > 0).sum())
    price = _price(path, leaps, curves.surprise.shape[1] / (2 * TOLERANCE + 1)) + float(np.log(max(1, tried)))
    alarm = min(0.0, log10_tail(float(said.sum()), windows) + price / float(np.log(10)))
    level, slope, middle = _line_of(curves, path, stays)
    heights = curves.heights[rows, path]
    polarity = -1 if float((np.sign(heights) * said).sum()) < 0 else 1
    along = curves.along(level + slope * (curves.at_s - middle)).astype(np.float64)
    clarity = float(np.abs(heights[said > SPOKE]).mean())
    return Verified(
        level, slope, middle, float(said.sum()) - windows, float(windows), alarm,
        *repeats(curves, (curves.first + path * curves.step) / WORK_RATE, polarity),
        polarity, clarity, curves.at_s, along,
    )  # fmt: skip


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
