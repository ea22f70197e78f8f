"""Waveform peaks at powers of two: computed once, read by range.

A peaks file holds, for each level, the lowest and highest value of every
``2**level`` samples, as int16 pairs a channel; layout in `docs/formats.md`.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

FIRST_LEVEL, LAST_LEVEL = 5, 17
_HEAD = struct.Struct("<4sHHI")
_MAGIC = b"VPK1"


class PeaksBuilder:
    """Gathers peaks while sound streams by; memory is the peaks alone (an eighth of a byte a sample)."""

    def __init__(self, channels: int) -> None:
        self._channels = channels
        self._rest = np.zeros((0, channels), np.float32)
        self._low: list[NDArray[np.int16]] = []

    def add(self, block: NDArray[np.float32]) -> None:
        """Take the next samples (n, channels)."""
        size = 1 << FIRST_LEVEL
        sound = np.concatenate([self._rest, block])
        whole = sound.shape[0] // size * size
        if whole:
            self._low.append(_min_max(sound[:whole].reshape(-1, size, self._channels)))
        self._rest = sound[whole:]

    def write(self, path: Path) -> None:
        """Close the levels and write the file in one step."""
        if self._rest.shape[0]:
            self._low.append(_min_max(self._rest[None]))
        level = np.concatenate(self._low) if self._low else np.zeros((0, self._channels, 2), np.int16)
        part = path.with_name(f"{path.name}.{os.getpid()}.part")
        with part.open("wb") as file:
            file.write(_HEAD.pack(_MAGIC, self._channels, LAST_LEVEL - FIRST_LEVEL + 1, level.shape[0]))
            for _ in range(FIRST_LEVEL, LAST_LEVEL + 1):
                file.write(level.astype("<i2").tobytes())
                level = _halve(level)
        part.replace(path)


def _min_max(groups: NDArray[np.float32]) -> NDArray[np.int16]:
    low = high = groups
    # Halved again and again: each step runs over long rows, where a reduction along so short an axis crawls.
    while low.shape[1] > 1 and low.shape[1] % 2 == 0:
        half = low.shape[1] // 2
        low, high = np.minimum(low[:, :half], low[:, half:]), np.maximum(high[:, :half], high[:, half:])
    pair = np.stack([low.min(axis=1), high.max(axis=1)], axis=-1)
    return np.asarray(np.clip(np.rint(pair * 32767), -32768, 32767), dtype=np.int16)


def _halve(level: NDArray[np.int16]) -> NDArray[np.int16]:
    if level.shape[0] % 2:
        level = np.concatenate([level, level[-1:]])
    pairs = level.reshape(-1, 2, level.shape[1], 2)
    return np.stack([pairs[..., 0].min(axis=1), pairs[..., 1].max(axis=1)], axis=-1)


def read_peaks(path: Path, level: int, start: int, count: int, channels: Iterable[int]) -> NDArray[np.int16]:
    """Read `count` peaks of one level from `start`: int16 (count, len(channels), 2), zero outside."""
    chosen = list(channels)
    out = np.zeros((max(0, count), len(chosen), 2), np.int16)
    level = min(max(level, FIRST_LEVEL), LAST_LEVEL)
    with path.open("rb") as file:
        _, width, _, size = _HEAD.unpack(file.read(_HEAD.size))
        at = _HEAD.size
        for _ in range(FIRST_LEVEL, level):
            at += size * width * 4
            size = (size + 1) // 2
        low, high = max(0, start), min(size, start + count)
        if high > low:
            file.seek(at + low * width * 4)
            data = np.frombuffer(file.read((high - low) * width * 4), "<i2").reshape(-1, width, 2)
            out[low - start : low - start + data.shape[0]] = data[:, chosen]
    return out
