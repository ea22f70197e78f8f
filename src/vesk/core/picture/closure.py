"""Claps seen: on which frame a clapper, or a pair of hands, is first seen closed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vesk.core.errors import SignalError

OPEN = 0.5  # of a frame: how long an exposure lasts at most, with the shutters in use
_CELL = 8  # pixels: what moves is judged in squares
_STILL = 3  # frames that must be still after contact
_CLOSING = 3  # frames of movement that lead to it
_LEAST, _TRIED = 4.0, 5  # movement that must stop for a frame to be looked at, and how many are


@dataclass(frozen=True, slots=True)
class Closure:
    """A clap proposed from the picture; a person confirms it.

    Attributes
    ----------
    frame : int
        Index, in the frames given, of the first that shows it closed.
    likely : float
        How likely it is a clap, and that frame the first that shows it closed; 0 to 1, calibrated on made moments.
    """

    frame: int
    likely: float

    def contact_s(self, fps: float, first: int = 0) -> tuple[float, float]:
        """Return between which picture times contact happened, when `first` is the index of the first frame given.

        Parameters
        ----------
        fps : float
            Of the picture, frames a second.
        first : int
            Index, in the picture, of the first frame that was given.
        """
        return contact_between(first + self.frame, fps)


def contact_between(frame: int, fps: float) -> tuple[float, float]:
    """Return between which picture times a contact happened that frame `frame` is the first to show.

    An exposure lasts: it begins with its frame and ends, with the shutters in use, half a frame later at most. A
    contact while it lasts may be seen on it, blurred, or only on the next.

    Parameters
    ----------
    frame : int
        The first that shows it closed, counted from the picture's first.
    fps : float
        Frames a second.

    Returns
    -------
    low_s, high_s : float
        Picture times, seconds: a frame and a half apart.

    Examples
    --------
    >>> contact_between(50, 25.0)
    (1.96, 2.02)
    """
    return (frame - 1) / fps, (frame + OPEN) / fps


def find_closure(frames: NDArray[np.uint8]) -> Closure | None:
    """Propose the frame on which something that was closing has stopped.

    Parameters
    ----------
    frames : ndarray of uint8, shape (count, height, width)
        Consecutive grey pictures around a clap heard or expected; eight or more.

    Returns
    -------
    Closure or None
        None when nothing moves and then stops.

    Raises
    ------
    SignalError
        If `frames` has not three dimensions.

    Notes
    -----
    A seen clap tells only that contact happened between two exposures or while one lasted: the answer is an interval
    (`contact_between`). In squares of eight pixels, movement over the frames before is compared with
    the movement after; a clapper stands out as many squares that moved and all stop on one frame. Of the moments at
    which most stops, the one is proposed that looks most like sticks (`_likely`).
    """
    if frames.ndim != 3:
        raise SignalError(f"frames have three dimensions, not shape {frames.shape}")
    if len(frames) < _CLOSING + _STILL + 2:
        return None
    found = [Closure(k, _likely(signs)) for k, signs in candidates(frames)]
    return max(found, key=lambda one: one.likely, default=None)


def candidates(frames: NDArray[np.uint8]) -> list[tuple[int, tuple[float, ...]]]:
    """Return the frames on which most stops that moved, each with its signs (`_SIGNS`), the most first.

    Parameters
    ----------
    frames : ndarray of uint8, shape (count, height, width)
        Eight or more.
    """
    count, height, width = frames.shape
    rows, columns = height // _CELL, width // _CELL
    cut = frames[:, : rows * _CELL, : columns * _CELL].astype(np.float32)
    change = np.abs(np.diff(cut, axis=0)).reshape(count - 1, rows, _CELL, columns, _CELL).mean(axis=(2, 4))
    # change[k] is from frame k to k + 1. What always moves, and noise, is taken out.
    change = np.maximum(change - 1.5 * np.median(change, axis=0) - 1.0, 0.0)
    stopped = {k: _stopped(change, k) for k in range(_CLOSING, count - _STILL)}
    scores = {k: float(squares.sum()) for k, squares in stopped.items()}
    tried: list[int] = []
    for k in sorted(scores, key=lambda k: -scores[k]):
        if scores[k] <= _LEAST or len(tried) == _TRIED:
            break
        if all(abs(k - other) > 1 for other in tried):
            tried.append(k)
    found = []
    for k in tried:
        others = max((score for other, score in scores.items() if abs(other - k) > 1), default=0.0)
        found.append((k, _signs(change, stopped[k], k, others)))
    return found


def _beside(change: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the greatest change in a square or beside it."""
    return np.asarray(ndimage.maximum_filter(change, 3))


def _stopped(change: NDArray[np.float32], k: int) -> NDArray[np.float32]:
    """Return how much of what moved in each square stops on frame `k`."""
    into = change[k - _CLOSING : k]
    # What swings moves from square to square: beside it there was movement in each of the frames before, and
    # there is none after. A slate that comes into view within a frame, however large, had none before; who walks
    # on has some after.
    before = np.minimum(_beside(into[-2]), _beside(into[-3]))
    after = _beside(change[k : k + _STILL].max(axis=0))
    return np.asarray(np.maximum(np.minimum(into[-1], before) - 3 * after, 0.0))


# What tells sticks from all else that stops, by logistic regression (`./vesk bench closures`): of each sign its mean
# and standard deviation over all that was tried, and its weight.
_SIGNS = (
    # How much stops there, over what stops at any other moment (logarithm).
    (-0.795, 2.550, 2.62),
    # Movement into that frame over that into the one before, and over the one before that (logarithms): what has weight
    # slows down before it stands, what hits something does not.
    (-0.034, 0.930, -2.11),
    (-0.241, 0.967, 0.79),
    # Movement anywhere over movement there (logarithm).
    (1.090, 0.987, -1.87),
    # Share of it at the frame's border, where all stops that leaves.
    (0.413, 0.468, -2.96),
    # How far it spreads lengthwise, of the frame's diagonal; the share of squares, and the strongest (logarithms).
    (0.051, 0.055, -3.26),
    (-4.317, 0.953, 1.93),
    (2.907, 0.962, 1.38),
)
_CONSTANT = -6.90


def _likely(signs: tuple[float, ...]) -> float:
    """Return how likely what stops is sticks that close."""
    total = _CONSTANT + sum(
        weight * (sign - mean) / spread for sign, (mean, spread, weight) in zip(signs, _SIGNS, strict=True)
    )
    return float(1 / (1 + np.exp(-total)))


def _signs(change: NDArray[np.float32], stopped: NDArray[np.float32], k: int, others: float) -> tuple[float, ...]:
    """Return the signs by which a closing on frame `k` is told from all else that stops, as `_SIGNS` lists them.

    `change` is the movement from each frame to the next, in squares (count - 1, rows, columns), `stopped` how much of
    it stops there, `others` the most that stops at any other moment.
    """
    rows, columns = stopped.shape
    total = float(stopped.sum())
    share = stopped / total
    near = ndimage.binary_dilation(stopped > 0)
    here, before, first = (float((change[k - n] * near).sum()) + 1.0 for n in (1, 2, 3))
    y, x = np.mgrid[:rows, :columns]
    border = float(share[(y == 0) | (y == rows - 1) | (x == 0) | (x == columns - 1)].sum())
    across, down = x - float((share * x).sum()), y - float((share * y).sum())
    leaning = float((share * across * down).sum())
    spread = [[float((share * across**2).sum()), leaning], [leaning, float((share * down**2).sum())]]
    lengthwise = float(np.sqrt(max(0.0, np.linalg.eigvalsh(spread)[-1])))
    many = float((stopped > stopped.max() / 4).mean())
    return (
        float(np.log(total / (others + 1.0))), float(np.log(here / before)), float(np.log(here / first)),
        float(np.log((float(change[k - 1].sum()) + 1.0) / here)), border, lengthwise / float(np.hypot(rows, columns)),
        float(np.log(many)), float(np.log(stopped.max())),
    )  # fmt: skip
