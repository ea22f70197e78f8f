"""The moments at which a timecode signal changes over, to a part of a sample."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

SMOOTHED_S = 1 / 6000  # shorter than the shortest half bit (208 µs at 30 frames): noise falls by 9 dB, edges stay
WINDOW_S = 0.005  # over which level and middle are taken: at least nine bits
_HOLD = 0.3  # of the level: what must be passed before a change counts
_QUIET = 1e-4  # of full scale: below -80 dB nothing is read


def find_edges(sound: NDArray[np.float32], sample_rate: int) -> NDArray[np.float64]:
    """Find where a two-level signal crosses its own middle.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel; any level, polarity and constant shift.
    sample_rate : int
        Hz.

    Returns
    -------
    ndarray of float64, shape (edges,)
        Samples, increasing, with their fraction.

    Notes
    -----
    A running mean shorter than half a bit turns steps into ramps, on which a straight line between
    two samples finds the crossing. A change counts when the signal has gone past a part of its level on
    the other side, so that noise about the middle makes no edges.
    """
    doublings = max(0, round(np.log2(SMOOTHED_S * sample_rate)))
    width = 1 << doublings
    window = max(4 * width, round(WINDOW_S * sample_rate))
    count = (sound.size - width + 1) // window * window
    if count <= 0:
        return np.zeros(0)
    smooth = sound
    for k in range(doublings):  # a sum over 2, of those over 4, ...: three passes instead of a running total
        smooth = smooth[: -(1 << k)] + smooth[1 << k :]
    smooth = smooth[:count] / np.float32(width)
    rows = smooth.reshape(-1, window)
    high, low = rows.max(axis=1), rows.min(axis=1)
    # A window may fall into a long half of a bit: its neighbours are asked as well.
    high = np.maximum(high, np.maximum(np.roll(high, 1), np.roll(high, -1)))
    low = np.minimum(low, np.minimum(np.roll(low, 1), np.roll(low, -1)))
    level = (high - low) / 2
    rows -= ((high + low) / 2)[:, None]
    above = smooth > 0
    crossing = np.flatnonzero(above[1:] != above[:-1]) + 1
    if crossing.size < 2:
        return np.zeros(0)
    # Between two crossings the signal must have gone far enough to count as a half of its own.
    peak = np.maximum.reduceat(np.abs(smooth), crossing)
    hold = np.where(level < _QUIET, np.inf, _HOLD * level)
    strong = np.flatnonzero(peak > hold[crossing // window])
    turned = above[crossing[strong][1:]] != above[crossing[strong][:-1]]
    after = crossing[strong[1:][turned]]
    a, b = smooth[after - 1].astype(np.float64), smooth[after].astype(np.float64)
    # The mean over `width` samples lies at their middle.
    return np.asarray(after - 1 + a / (a - b) + (width - 1) / 2)
