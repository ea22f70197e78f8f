"""Waveform peaks at powers of two: computed once, read by range.

A peaks file holds, for each level, the lowest and highest value of every
``2**level`` samples, as int16 pairs a channel; layout in `docs/formats.md`.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vesk.media.whole import let_go

FIRST_LEVEL, LAST_LEVEL = 5, 17
_HEAD = struct.Struct("<4sHHI")
_MAGIC = b"VPK1"
_PIECE = 1 << 16  # peaks read at once; even, so that pairs stay together


class PeaksBuilder:
    """Writes peaks while sound streams by, then the coarser levels from the finer: memory stays flat."""

    def __init__(self, channels: int, path: Path) -> None:
        self._channels = channels
        self._rest = np.zeros((0, channels), np.float32)
        self._path, self._part = path, path.with_name(f"{path.name}.{os.getpid()}.part")
        self._file = self._part.open("w+b")
        self._file.write(bytes(_HEAD.size))  # how many there are is known at the end
        self._count = 0

    def add(self, block: NDArray[np.float32]) -> None:
        """Take the next samples (n, channels)."""
        size = 1 << FIRST_LEVEL
        sound = np.concatenate([self._rest, block])
        whole = sound.shape[0] // size * size
        if whole:
            self._put(_min_max(sound[:whole].reshape(-1, size, self._channels)))
        self._rest = sound[whole:]

    def _put(self, level: NDArray[np.int16]) -> None:
        self._file.write(level.astype("<i2", copy=False).tobytes())
        self._count += level.shape[0]

    def finish(self) -> None:
        """Write the coarser levels, and put the file where it belongs in one step."""
        if self._rest.shape[0]:
            self._put(_min_max(self._rest[None]))
        width = 4 * self._channels
        at, count = _HEAD.size, self._count
        for _ in range(FIRST_LEVEL, LAST_LEVEL):
            for start in range(0, count, _PIECE):
                self._file.seek(at + start * width)
                data = self._file.read(min(_PIECE, count - start) * width)
                self._file.seek(0, os.SEEK_END)
                level = np.frombuffer(data, "<i2").reshape(-1, self._channels, 2)
                self._file.write(_halve(level).astype("<i2", copy=False).tobytes())
            at, count = at + count * width, (count + 1) // 2
        self._file.seek(0)
        self._file.write(_HEAD.pack(_MAGIC, self._channels, LAST_LEVEL - FIRST_LEVEL + 1, self._count))
        self._file.close()
        self._part.replace(self._path)

    def give_up(self) -> None:
        """Leave nothing behind."""
        with suppress(OSError):  # closing writes what is still held back
            self._file.close()
        let_go(self._part)


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
