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
_CACHED = 1 << 15  # samples that are turned over while they are in a core's cache


class PeaksBuilder:
    """Writes peaks while sound streams by, then the coarser levels from the finer: memory stays flat."""

    def __init__(self, channels: int, path: Path) -> None:
        self._channels = channels
        self._rest = np.zeros((channels, 0), np.float32)
        self._path, self._part = path, path.with_name(f"{path.name}.{os.getpid()}.part")
        self._file = self._part.open("w+b")
        self._file.write(bytes(_HEAD.size))  # how many there are is known at the end
        self._count = 0

    def add(self, rows: NDArray[np.float32]) -> None:
        """Take the next samples, float32 (channels, n)."""
        size = 1 << FIRST_LEVEL
        if self._rest.shape[1]:  # a group that the samples before began
            lacks = size - self._rest.shape[1]
            self._rest, rows = np.concatenate([self._rest, rows[:, :lacks]], axis=1), rows[:, lacks:]
            if self._rest.shape[1] < size:
                return
            self._put(_min_max(self._rest, size))
        whole = rows.shape[1] // size * size
        if whole:
            self._put(_min_max(rows[:, :whole], size))
        self._rest = rows[:, whole:].copy()

    def _put(self, level: NDArray[np.int16]) -> None:
        self._file.write(level.astype("<i2", copy=False).tobytes())
        self._count += level.shape[0]

    def finish(self) -> None:
        """Write the coarser levels, and put the file where it belongs in one step."""
        if self._rest.shape[1]:
            self._put(_min_max(self._rest, self._rest.shape[1]))
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


def _min_max(rows: NDArray[np.float32], size: int) -> NDArray[np.int16]:
    """Return the lowest and highest of each group of `size`: float32 (channels, n) to int16 (n / size, channels, 2)."""
    channels, samples = rows.shape
    out = np.empty((samples // size, channels, 2), np.float32)
    step = max(1, _CACHED // size)
    for channel, row in enumerate(rows):
        groups = row.reshape(-1, size)
        for at in range(0, groups.shape[0], step):
            # Turned over first, so that each step runs over long rows: a reduction along so short an axis crawls.
            turned = np.ascontiguousarray(groups[at : at + step].T)
            out[at : at + step, channel, 0] = turned.min(axis=0)
            out[at : at + step, channel, 1] = turned.max(axis=0)
    out *= 32767
    return np.asarray(np.clip(np.rint(out, out=out), -32768, 32767, out=out), dtype=np.int16)


def _halve(level: NDArray[np.int16]) -> NDArray[np.int16]:
    if level.shape[0] % 2:
        level = np.concatenate([level, level[-1:]])
    out = np.empty((level.shape[0] // 2, level.shape[1], 2), np.int16)
    for channel in range(level.shape[1]):
        low, high = level[:, channel, 0], level[:, channel, 1]
        np.minimum(low[0::2], low[1::2], out=out[:, channel, 0])
        np.maximum(high[0::2], high[1::2], out=out[:, channel, 1])
    return out


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
