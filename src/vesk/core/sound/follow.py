"""Follow where a sound lies from window to window, whatever it does: who walks is heard later and later.

A window that hears somebody walk is neither at one offset nor at the picture's rate. So every window is correlated at a
bank of slants, and the path through all of them is sought that explains most: it may stay, go on slanting, or leap
to where somebody else speaks, each at the price of saying so (Viterbi 1967).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import log

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.coarse import CLEAR_ONSETS, Candidate, credited
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.verify import (
    SPOKE,
    TOLERANCE,
    WIDE_WINDOWS,
    Curves,
    Verified,
    correlate_around,
    log10_tail,
    repeats,
)
from vesk.core.sound.windows import Stretch, lay_windows

REACH_S = 0.03  # ten metres of way to either side
_FASTEST, _SLANTS = 5e-3, 5  # of sound: 1.7 m/s; and how many slants lie between that and none
_SLACK = 2  # samples that a window may lie beside where its slant leads
_KEEP, _CHANGE, _LEAP = 0.9, 0.09, 0.01  # how often a slant is kept, changed, left for another place
_OFF_NATS = 0.35  # for each sample of slack
_NEVER = -1e9
_ODD_LAGS = 2.0 * TOLERANCE + 1


@dataclass(frozen=True, slots=True)
class Followed:
    """A path through all windows.

    Attributes
    ----------
    at_s, offset_s : ndarray of float64, shape (windows,)
        Picture time and offset of each, seconds.
    slant : ndarray of float64, shape (windows,)
        Of the offset within it, seconds a second: 3e-3 is a talker who goes a metre away each second.
    surprise : ndarray of float64, shape (windows,)
        How much it says for that, nats: of unit exponential distribution under chance.
    price : float
        What saying the path cost, nats: a path of so many turns is one of exp(price).
    still, own : Curves
        What the windows say without any slant, and each at its own.
    polarity : int
        -1 when one of the two is turned over.
    """

    at_s: NDArray[np.float64]
    offset_s: NDArray[np.float64]
    slant: NDArray[np.float64]
    surprise: NDArray[np.float64]
    price: float
    still: Curves
    own: Curves
    polarity: int

    def log10_false_alarm(self, tried: int) -> float:
        """Return log10 of the chance that noise is followed as well as this.

        Parameters
        ----------
        tried : int
            Places that were followed.

        Notes
        -----
        A path that costs p nats to say is one of exp(p) at most (Kraft 1949). What lies beside a lag within the
        tolerance is the same place: slack opens little more than half a place.
        """
        windows = int((self.surprise > 0).sum())
        beside = log((_ODD_LAGS + 2 * _SLACK) / _ODD_LAGS) * windows
        nats = (self.price + beside + log(max(1, tried))) / log(10)
        return min(0.0, log10_tail(float(self.surprise.sum()), windows) + nats)


def follow(picture: Hearing, sound: Hearing, cells: Stretch, expected_s: NDArray[np.float64], slope: float) -> Followed:
    """Follow a sound along a take.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    expected_s : ndarray of float64, shape (windows,)
        About which to look, seconds: within `REACH_S`.
    slope : float
        Of the clocks, about which windows may slant, seconds a second.
    """
    reach = int(REACH_S * WORK_RATE)
    slants = np.asarray(np.arange(-_SLANTS, _SLANTS + 1) * (_FASTEST / _SLANTS), np.float64)
    lags = np.arange(-reach, reach + 1)
    surprise = np.empty((slants.size, cells.starts.size, lags.size), np.float32)
    heights = np.empty_like(surprise)
    base = np.rint(expected_s * WORK_RATE)
    still: Curves | None = None
    for number, slant in enumerate(slants):
        curves = correlate_around(picture, sound, cells, expected_s, -(slope + slant) * 1e6, reach)
        still = curves if slant == 0 else still
        column = curves.columns((base[None, :] + lags[:, None]) / WORK_RATE).T
        column = np.clip(column, 0, curves.surprise.shape[1] - 1)
        surprise[number] = np.take_along_axis(curves.surprise, column, 1)
        heights[number] = np.take_along_axis(curves.heights, column, 1)
    # Tried at every slant, a window is surprised by the most of them: that is paid for where the path says its slant.
    at = cells.centres_s
    state, price = _path(surprise, slants, np.diff(at) * WORK_RATE, np.diff(base))
    rows = np.arange(at.size)
    slant, lag = state
    told = surprise[slant, rows, lag].astype(np.float64)
    # The place is known to the tolerance: within it, where the window stands highest.
    near = np.clip(lag[:, None] + np.arange(-TOLERANCE, TOLERANCE + 1), 0, lags.size - 1)
    best = near[rows, np.argmax(np.abs(heights[slant[:, None], rows[:, None], near]), axis=1)]
    turned = float((np.sign(heights[slant, rows, best]) * told).sum()) < 0
    own = Curves(heights[slant, rows], surprise[slant, rows], base - reach, at)
    return Followed(
        at, (base + lags[best]) / WORK_RATE, slants[slant], told, price, still or curves, own, -1 if turned else 1
    )  # fmt: skip


def follow_guess(picture: Hearing, sound: Hearing, guess: Candidate, *, tried: int) -> Verified | None:
    """Look at a coarse candidate that no line verifies: whether a path does, and could that be chance.

    Parameters
    ----------
    picture, sound : Hearing
    guess : Candidate
        Where to look, as good as for `verify`.
    tried : int
        Candidates, channels and rates tried altogether.
    """
    cells = lay_windows(picture.seconds, sound.seconds, guess, most=WIDE_WINDOWS, overlap=0.5)
    if cells is None or guess.score < CLEAR_ONSETS:
        return None
    found = follow(picture, sound, cells, np.full(cells.starts.size, guess.offset_s), 0.0)
    spoke = found.surprise > SPOKE
    if not spoke.any():
        return None
    windows = float((found.surprise > 0).sum())
    heights = np.abs(found.own.heights[np.arange(spoke.size), found.own.columns(found.offset_s)])
    alarm = credited(found.log10_false_alarm(tried), guess.score)
    level = float(np.median(found.offset_s[spoke]))
    along = found.still.along(np.full(found.at_s.size, level)).astype(np.float64)
    return Verified(
        level, 0.0, float(found.at_s.mean()), float(found.surprise.sum()) - windows, windows, alarm,
        *repeats(found.own, found.offset_s, found.polarity),
        found.polarity, float(heights[spoke].mean()), found.at_s, along,
    )  # fmt: skip


def _path(
    surprise: NDArray[np.float32], slants: NDArray[np.float64], spans: NDArray[np.float64], moved: NDArray[np.float64]
) -> tuple[tuple[NDArray[np.int64], NDArray[np.int64]], float]:
    """Return each window's slant and lag (indices) on the path that explains most, and its price, nats."""
    many, windows, lags = surprise.shape
    leap = -log(_LEAP) + log(lags / _ODD_LAGS) + log(many)
    turn = np.full((many, many), -log(_CHANGE / many))
    np.fill_diagonal(turn, -log(_KEEP))
    slack = np.arange(-_SLACK, _SLACK + 1)
    score = surprise[:, 0].astype(np.float64) - log(lags / _ODD_LAGS) - log(many)
    from_slant = np.zeros((windows, many, lags), np.int16)
    from_lag = np.zeros((windows, many, lags), np.int32)
    prices = np.zeros((windows, many, lags))
    prices[0] = log(lags / _ODD_LAGS) + log(many)
    columns, each = np.arange(lags), np.arange(many)
    edge = np.full((many, _SLACK), _NEVER)
    for t in range(1, windows):
        top = int(np.argmax(score))
        # The best within the slack of each lag, and which that is.
        wide = np.concatenate([edge, score, edge], axis=1)
        tried = np.stack([wide[:, k : k + lags] - _OFF_NATS * abs(k - _SLACK) for k in range(slack.size)])
        own = np.argmax(tried, axis=0)
        loose = np.take_along_axis(tried, own[None], 0)[0]
        loose = np.concatenate([loose, np.full((many, 1), _NEVER)], axis=1)
        best, whence = np.empty((many, lags)), np.empty((many, lags), np.int64)
        for new in range(many):
            # Half of the way at the old slant, half at the new; the base itself may have moved.
            shift = np.rint((slants + slants[new]) / 2 * spans[t - 1] - moved[t - 1]).astype(np.int64)
            source = columns - shift[:, None]
            source[(source < 0) | (source >= lags)] = lags
            value = loose[each[:, None], source] - turn[:, new, None]
            old = np.argmax(value, axis=0)
            best[new] = value[old, columns]
            at = source[old, columns]
            whence[new] = old * lags + np.clip(at + slack[own[old, np.minimum(at, lags - 1)]], 0, lags - 1)
        leaps = best < score.flat[top] - leap
        best[leaps], whence[leaps] = score.flat[top] - leap, top
        from_slant[t], from_lag[t] = whence // lags, whence % lags
        prices[t] = score[from_slant[t], from_lag[t]] - best
        score = best + surprise[:, t]
    slant, lag = np.zeros(windows, np.int64), np.zeros(windows, np.int64)
    slant[-1], lag[-1] = np.unravel_index(int(np.argmax(score)), score.shape)
    total = 0.0
    for t in range(windows - 1, 0, -1):
        total += float(prices[t, slant[t], lag[t]])
        slant[t - 1], lag[t - 1] = from_slant[t, slant[t], lag[t]], from_lag[t, slant[t], lag[t]]
    return (slant, lag), total + float(prices[0, slant[0], lag[0]])
