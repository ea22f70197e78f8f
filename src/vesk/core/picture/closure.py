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


@dataclass(frozen=True, slots=True)
class Closure:
    """A clap proposed from the picture; a person confirms it.

    Attributes
    ----------
    frame : int
        Index, in the frames given, of the first that shows it closed.
    clearness : float
        Movement that stopped there over what else stopped anywhere; 2 and more is clear.
    """

    frame: int
    clearness: float

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


def _beside(change: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the greatest change in a square or beside it."""
    return np.asarray(ndimage.maximum_filter(change, 3))


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
    the movement after; a clapper stands out as many squares that moved and all stop on one frame.
    """
    if frames.ndim != 3:
        raise SignalError(f"frames have three dimensions, not shape {frames.shape}")
    count, height, width = frames.shape
    if count < _CLOSING + _STILL + 2:
        return None
    rows, columns = height // _CELL, width // _CELL
    cut = frames[:, : rows * _CELL, : columns * _CELL].astype(np.float32)
    change = np.abs(np.diff(cut, axis=0)).reshape(count - 1, rows, _CELL, columns, _CELL).mean(axis=(2, 4))
    # change[k] is from frame k to k + 1. What always moves, and noise, is taken out.
    change = np.maximum(change - 1.5 * np.median(change, axis=0) - 1.0, 0.0)
    scores = np.zeros(count)
    for k in range(_CLOSING, count - _STILL):
        into = change[k - _CLOSING : k]
        # What swings moves from square to square: beside it there was movement in each of the frames before, and
        # there is none after. A slate that comes into view within a frame, however large, had none before; who walks
        # on has some after.
        before = np.minimum(_beside(into[-2]), _beside(into[-3]))
        after = _beside(change[k : k + _STILL].max(axis=0))
        scores[k] = float(np.maximum(np.minimum(into[-1], before) - 3 * after, 0.0).sum())
    best = int(np.argmax(scores))
    others = np.delete(scores, [n for n in (best - 1, best, best + 1) if 0 <= n < count])
    if scores[best] <= 4.0:
        return None
    return Closure(best, float(scores[best] / (float(others.max(initial=0.0)) + 1.0)))
