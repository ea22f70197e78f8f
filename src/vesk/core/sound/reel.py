"""Many recordings laid one after the other and transformed once, to be searched as one: a day's sound for one take."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.coarse import SEGMENT_S, Candidate, Spectra, prepare, search
from vesk.core.sound.features import FEATURE_RATE

_GAP_ROWS = round(1.2 * SEGMENT_S * FEATURE_RATE)  # no segment meets two recordings


@dataclass(frozen=True, slots=True)
class Reel:
    """Recordings laid one after the other.

    Attributes
    ----------
    starts, rows : tuple of int
        Feature rows: where each begins, and how many it has.
    spectra : Spectra
        All of it, transformed.
    bands : int
    """

    starts: tuple[int, ...]
    rows: tuple[int, ...]
    spectra: Spectra
    bands: int

    @property
    def total(self) -> int:
        """Rows of all, gaps among them."""
        return self.starts[-1] + self.rows[-1]


def lay(features: Sequence[NDArray[np.float16]]) -> Reel:
    """Lay recordings one after the other, silence between them.

    Parameters
    ----------
    features : sequence of ndarray, shape (rows, BANDS)
        Of each recording; at least one.
    """
    starts, at = [], 0
    for one in features:
        starts.append(at)
        at += one.shape[0] + _GAP_ROWS
    whole = np.zeros((at - _GAP_ROWS, features[0].shape[1]), np.float16)
    for start, one in zip(starts, features, strict=True):
        whole[start : start + one.shape[0]] = one
    return Reel(tuple(starts), tuple(one.shape[0] for one in features), prepare(whole), whole.shape[1])


def search_reel(
    reel: Reel, short: NDArray[np.float16], *, is_picture: bool, most: int, rates_ppm: tuple[float, ...] = (0.0,)
) -> list[tuple[int, Candidate]]:
    """Search all recordings of a reel at once for the places where one could belong.

    Parameters
    ----------
    reel : Reel
        Longer than `short`.
    short : ndarray, shape (rows, BANDS)
    is_picture : bool
        Whether `short` is the picture's, and the reel recorders'; else the other way round.
    most : int
        Places wanted.
    rates_ppm : tuple of float
        Rate errors of the sound to try.

    Returns
    -------
    list of (int, Candidate)
        Which recording of the reel, and where on it; the best first.
    """
    shape = np.broadcast_to(np.float16(0), (reel.total, reel.bands))  # only its size is asked: it is transformed
    pair = (short, shape) if is_picture else (shape, short)
    found = search(*pair, most=most, rates_ppm=rates_ppm, prepared=reel.spectra)
    placed = []
    middle = short.shape[0] / FEATURE_RATE / 2
    for one in found:
        # When, on the reel's own time, the middle of the short one sounds.
        at = (middle - one.offset_s if is_picture else middle + one.offset_s) * FEATURE_RATE
        index = bisect_right(reel.starts, at) - 1
        if index < 0 or at >= reel.starts[index] + reel.rows[index] + _GAP_ROWS / 2:
            index = min(index + 1, len(reel.starts) - 1)
        begins = reel.starts[index] / FEATURE_RATE
        # A sound that begins later on the reel begins later on the picture; a picture, the sound earlier on it.
        offset = one.offset_s + begins if is_picture else one.offset_s - begins
        placed.append((index, replace(one, offset_s=offset)))
    return placed
