"""From edges to frames: biphase-mark bits, the sync word, and the eighty bits' fields.

Source: SMPTE ST 12-1 (linear timecode).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

BITS = 80
_SYNC = sum(int(bit) << k for k, bit in enumerate("0011111111111101"))  # bits 64 to 79, as they are sent
_SLOWEST, _FASTEST = 20.0, 36.0  # frames a second that are read
_USER = [4, 12, 20, 28, 36, 44, 52, 60]


@dataclass(frozen=True, slots=True)
class Frames:
    """Frames as they were read, one by one, not yet compared with each other.

    Attributes
    ----------
    start : ndarray of float64, shape (frames,)
        Sample at which each begins: a straight line through its eighty bits.
    period : ndarray of float64
        Samples from its start to the next frame's, by the same line.
    hour, minute, second, number : ndarray of int64
    drop : ndarray of bool
        The drop-frame flag.
    user : ndarray of uint32
        The eight user groups, the first in the lowest four bits.
    """

    start: NDArray[np.float64]
    period: NDArray[np.float64]
    hour: NDArray[np.int64]
    minute: NDArray[np.int64]
    second: NDArray[np.int64]
    number: NDArray[np.int64]
    drop: NDArray[np.bool_]
    user: NDArray[np.uint32]

    @property
    def size(self) -> int:
        """Number of frames found."""
        return int(self.start.size)


def join(parts: list[Frames]) -> Frames:
    """Put frames of several stretches together.

    Parameters
    ----------
    parts : list of Frames
        In the order of time.
    """
    return Frames(*(np.concatenate([getattr(part, name) for part in parts]) for name in Frames.__slots__))


def _bits(edges: NDArray[np.float64], sample_rate: int) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """Return bits and the edge each begins at: a long interval is 0, two short ones are 1."""
    gaps = np.diff(edges)
    slowest, fastest = sample_rate / (_SLOWEST * BITS), sample_rate / (_FASTEST * BITS)
    likely = gaps[(gaps > 0.35 * fastest) & (gaps < 1.2 * slowest)]
    if likely.size < 40:
        return np.zeros(0, np.uint8), np.zeros(0, np.int64)
    some = likely[:: max(1, likely.size // 4000)]
    # Every sync word brings short ones and long ones: both ends of the distribution are there.
    short, long = np.quantile(some, 0.12), np.quantile(some, 0.93)
    limit = 0.5 * (short + long)
    is_long = gaps > limit
    valid = (gaps > 0.4 * short) & (gaps < 1.5 * long)
    begins = np.arange(gaps.size)
    # Shorts are paired from the first after a long one, or after what is neither.
    anchor = np.maximum.accumulate(np.where(is_long | ~valid, begins, -1))
    even = (begins - anchor) % 2 == 1
    at = np.flatnonzero(valid & (is_long | even))
    return (~is_long[at]).astype(np.uint8), at


def read_frames(edges: NDArray[np.float64], sample_rate: int) -> Frames:
    """Read every frame whose sync word and fields can be.

    Parameters
    ----------
    edges : ndarray of float64
        From `find_edges`, samples.
    sample_rate : int
        Hz.
    """
    bits, at = _bits(edges, sample_rate)
    if bits.size < BITS:
        return _none()
    word = np.zeros(bits.size - 15, np.uint32)
    for k in range(16):
        word |= bits[k : bits.size - 15 + k].astype(np.uint32) << k
    first = np.flatnonzero(word == _SYNC) - 64
    first = first[first >= 0]
    if not first.size:
        return _none()
    index = first[:, None] + np.arange(BITS)
    data = bits[index[:, :64]].astype(np.int64)
    times = edges[at[index]]
    steps = np.arange(BITS) - (BITS - 1) / 2
    slope = (times @ steps) / float((steps**2).sum())
    start = times.mean(axis=1) - slope * (BITS - 1) / 2
    period = slope * BITS
    straight = np.abs(times - start[:, None] - slope[:, None] * np.arange(BITS)).max(axis=1) < 0.6 * slope

    def field(low: int, width: int) -> NDArray[np.int64]:
        return np.asarray(data[:, low : low + width] @ (1 << np.arange(width)))

    units = [field(low, 4) for low in (0, 16, 32, 48)]
    tens = [field(low, width) for low, width in ((8, 2), (24, 3), (40, 3), (56, 2))]
    number, second, minute, hour = (10 * ten + unit for ten, unit in zip(tens, units, strict=True))
    good = straight & (number < 30) & (second < 60) & (minute < 60) & (hour < 24)
    good &= np.max(units, axis=0) < 10
    good &= (period > sample_rate / _FASTEST) & (period < sample_rate / _SLOWEST)
    user = np.zeros(first.size, np.uint32)
    for group, low in enumerate(_USER):
        user |= field(low, 4).astype(np.uint32) << np.uint32(4 * group)
    values = (start, period, hour, minute, second, number, data[:, 10] == 1, user)
    return Frames(*(value[good] for value in values))


def _none() -> Frames:
    whole = np.zeros(0, np.int64)
    real = np.zeros(0)
    return Frames(real, real, whole, whole, whole, whole, np.zeros(0, bool), np.zeros(0, np.uint32))
