"""One channel brought to the working rate as it passes by: sound and features for matching, in little memory."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.features import BANDS, WORK_RATE, OnsetBuilder
from vesk.core.sound.levels import hum_share
from vesk.core.sound.resample import lowering
from vesk.media.whole import let_go

_PIECE = 1 << 15  # samples at once: what they need stays in a core's cache


def _write_array(path: Path, kind: type, shape: tuple[int, ...], pieces: Iterable[NDArray[Any]]) -> None:
    """Write an array that comes in pieces along its first axis, as `numpy.save` would whole."""
    with path.open("wb") as file:
        np.lib.format.write_array_header_1_0(
            file, {"descr": np.lib.format.dtype_to_descr(np.dtype(kind)), "fortran_order": False, "shape": shape}
        )
        for piece in pieces:
            file.write(np.ascontiguousarray(piece, kind).tobytes())
        file.flush()
        os.fsync(file.fileno())  # what stands as complete is so after a power cut, too


class SpilledRows:
    """Rows that wait on disk, so that memory does not grow with a recording's length."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._file = path.open("wb")

    def append(self, rows: NDArray[np.float32]) -> None:
        """Take the next rows (n, BANDS)."""
        self._file.write(np.ascontiguousarray(rows, np.float32).tobytes())

    def all(self) -> NDArray[np.float32]:
        """Return every row, read from disk as it is asked for."""
        self._file.close()
        if not self._path.stat().st_size:
            return np.zeros((0, BANDS), np.float32)
        return np.memmap(self._path, np.float32, "r").reshape(-1, BANDS)

    def drop(self) -> None:
        """Leave nothing behind."""
        with suppress(OSError):  # closing writes what is still held back
            self._file.close()
        let_go(self._path)


class WorkingChannel:
    """Sound at the working rate, kept in a file of its own until its peak is known."""

    def __init__(self, sample_rate: int, sound: Path, features: Path) -> None:
        self._down = lowering(sample_rate, WORK_RATE)
        self._energies = SpilledRows(features.with_name(f"{features.name}.{os.getpid()}.energies"))
        self._onsets = OnsetBuilder(self._energies)
        self._sound, self._features = sound, features
        self._part = sound.with_name(f"{sound.name}.{os.getpid()}.float")
        self._file = self._part.open("wb")
        self._count = 0
        self._peak = 0.0

    def feed(self, block: NDArray[np.float32], *, last: bool = False) -> None:
        """Take the next samples, float32 (n,) at the recording's own rate."""
        low = self._down.resample_chunk(block, last=last)
        if low.size:
            self._onsets.feed(low)
            self._file.write(low.tobytes())
            self._count += low.size
            self._peak = max(self._peak, float(low.max()), -float(low.min()))

    def finish(self) -> tuple[float, float]:
        """Write sound and features; return what 1 in the sound stands for, and the share of hum."""
        self.feed(np.zeros(0, np.float32), last=True)
        self._file.close()
        # Scaled to its own peak: a sound 60 dB down keeps its 16 bits.
        unit = max(self._peak, 1e-9) / 32767
        part = self._own(self._sound)
        mono = np.memmap(self._part, np.float32, "r") if self._count else np.zeros(0, np.float32)
        pieces = (mono[start : start + _PIECE] for start in range(0, self._count, _PIECE))
        _write_array(part, np.int16, (self._count,), (np.rint(piece / np.float32(unit)) for piece in pieces))
        hum = hum_share(mono)
        del mono
        part.replace(self._sound)
        self._part.unlink()
        features = self._own(self._features)
        _write_array(features, np.float16, (self._onsets.count, BANDS), self._onsets.finish())
        self._energies.drop()
        features.replace(self._features)
        return unit, hum

    @staticmethod
    def _own(path: Path) -> Path:
        return path.with_name(f"{path.name}.{os.getpid()}.part")

    def give_up(self) -> None:
        """Leave nothing behind."""
        with suppress(OSError):
            self._file.close()
        for path in (self._part, self._own(self._sound), self._own(self._features)):
            let_go(path)
        self._energies.drop()
