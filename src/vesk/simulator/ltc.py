"""A timecode box's signal: what a camera or recorder records when its sound input is fed with it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vesk.core.timecode import FrameRate, Timecode

_RISE_S = 40e-6  # the standard's rise time of a sine-squared edge


def word(timecode: Timecode, user_bits: str = "00000000") -> list[int]:
    """Return a frame's eighty bits in the order they are sent."""
    label = str(timecode)
    hour, minute, second, number = (int(label[k : k + 2]) for k in (0, 3, 6, 9))
    bits = [0] * 80

    def put(low: int, width: int, value: int) -> None:
        for k in range(width):
            bits[low + k] = value >> k & 1

    for low, ten, width, value in ((0, 8, 2, number), (16, 24, 3, second), (32, 40, 3, minute), (48, 56, 2, hour)):
        put(low, 4, value % 10)
        put(ten, width, value // 10)
    bits[10] = int(timecode.rate.drop)
    for group, digit in enumerate(reversed(user_bits)):
        put(4 + 8 * group, 4, int(digit, 16))
    bits[64:] = [int(c) for c in "0011111111111101"]
    # The polarity bit makes the number of ones even, so that every frame begins with the same change.
    bits[59 if timecode.rate.nominal == 25 else 27] = sum(bits) % 2
    return bits


def signal(
    first: float, count: int, rate: FrameRate, samples_a_second: float, *, user_bits: str = "00000000"
) -> NDArray[np.float32]:
    """Return the signal as sampled.

    Parameters
    ----------
    first : float
        Frames since label midnight, with their fraction, at sample 0.
    count : int
        Samples.
    rate : FrameRate
    samples_a_second : float
        Of the recording's clock, in timecode seconds: 48 000 times 1 + ppm / 1e6.
    """
    period = samples_a_second / float(rate.fps)
    begin = int(np.floor(first)) - 1
    frames = int(np.ceil(count / period)) + 3
    edges: list[NDArray[np.float64]] = []
    for n in range(frames):
        bits = np.array(word(Timecode((begin + n) % rate.frames_per_day, rate), user_bits))
        at = (begin + n - first) * period + np.arange(80) * period / 80
        edges.append(np.sort(np.concatenate([at, at[bits == 1] + period / 160])))
    every = np.concatenate(edges)
    out = np.empty(count, np.float32)
    # Between edges the level stands; across one it rises as half a cosine.
    at = np.arange(count, dtype=np.float64)
    index = np.searchsorted(every, at, side="right")
    out[:] = np.where(index % 2 == 0, 1.0, -1.0)
    half = _RISE_S * samples_a_second / 2
    for k in (-1, 0):
        near = np.clip(index + k, 0, every.size - 1)
        away = at - every[near]
        inside = np.abs(away) < half
        sign = np.where(near % 2 == 0, -1.0, 1.0)
        out[inside] = (sign * np.sin(np.pi / 2 * away / half))[inside]
    return out
