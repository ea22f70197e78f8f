"""Features of a sound: how its energy changes, band by band, a hundred times a second.

Small enough to store with each recording (11.5 MB an hour as float16), and enough
to say roughly where two recordings share sound.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.errors import SignalError
from vesk.core.sound.taper import hann

WORK_RATE = 16_000  # Hz: the rate at which sound is matched; higher bands rarely agree between microphones
HOP = 160  # samples at WORK_RATE: 100 features a second
FEATURE_RATE = WORK_RATE // HOP
BANDS = 16
_WINDOW = 320
_PIECE = 1 << 15  # rows normalised at once
_BLOCK = 256  # feature rows at once: what they need stays in a core's cache, and memory flat


def _band_matrix() -> NDArray[np.float32]:
    edges = np.geomspace(110.0, 7200.0, BANDS + 1)
    bins = fft.rfftfreq(_WINDOW, 1 / WORK_RATE)
    rows = [(bins >= low) & (bins < high) for low, high in pairwise(edges)]
    # Bins lie 50 Hz apart: a low band that would hold none takes the nearest.
    for row, (low, high) in zip(rows, pairwise(edges), strict=True):
        if not row.any():
            row[np.argmin(np.abs(bins - (low + high) / 2))] = True
    return np.array(rows, dtype=np.float32).T


# A complex spectrum squared part by part lies in memory as real, imaginary, real, ...: both count.
_MATRIX = np.repeat(_band_matrix(), 2, axis=0)


class Rows(Protocol):
    """Where energies wait until all of them are there: 6.4 kB a second, in memory or elsewhere."""

    def append(self, rows: NDArray[np.float32]) -> None:
        """Take the next rows (n, BANDS)."""
        ...

    def all(self) -> NDArray[np.float32]:
        """Return every row, as an array that is only read."""
        ...


class HeldRows:
    """`Rows` in memory."""

    def __init__(self) -> None:
        self._rows: list[NDArray[np.float32]] = []

    def append(self, rows: NDArray[np.float32]) -> None:
        """Take the next rows (n, BANDS)."""
        self._rows.append(rows)

    def all(self) -> NDArray[np.float32]:
        """Return every row."""
        return np.concatenate(self._rows) if self._rows else np.zeros((0, BANDS), np.float32)


class OnsetBuilder:
    """Onset features of a channel that passes by in pieces; its energies wait in `rows`."""

    def __init__(self, rows: Rows | None = None) -> None:
        self._window = hann(_WINDOW)
        # The first row's window begins before the first sample.
        self._held = np.zeros(_WINDOW // 2, np.float32)
        self._energies = HeldRows() if rows is None else rows
        self._samples = 0

    def feed(self, sound: NDArray[np.float32]) -> None:
        """Take the next samples, float32 (n,) at `WORK_RATE`.

        Raises
        ------
        SignalError
            If `sound` is not one-dimensional.
        """
        if sound.ndim != 1:
            raise SignalError(f"features need one channel, not shape {sound.shape}")
        self._samples += sound.size
        self._take(np.concatenate([self._held, sound]))

    def _take(self, piece: NDArray[np.float32]) -> None:
        rows = 0
        if piece.size >= _WINDOW:
            windows = np.lib.stride_tricks.sliding_window_view(piece, _WINDOW)[::HOP]
            rows = windows.shape[0]
            for start in range(0, rows, _BLOCK):
                bins = fft.rfft(windows[start : start + _BLOCK] * self._window, axis=1, overwrite_x=True)
                parts = bins.view(np.float32)
                self._energies.append(np.square(parts, out=parts) @ _MATRIX)
        self._held = piece[rows * HOP :].copy()

    @property
    def count(self) -> int:
        """How many rows of features there will be."""
        return self._samples // HOP

    def finish(self) -> Iterator[NDArray[np.float16]]:
        """End feeding, and yield the features, as `onset_features` computes them, in pieces (n, BANDS), in order."""
        count = self.count
        self._take(np.concatenate([self._held, np.zeros(_WINDOW, np.float32)]))
        if count > 1:
            yield from _changes(self._energies.all()[:count])
        else:
            yield np.zeros((count, BANDS), np.float16)


def onset_features(sound: NDArray[np.float32]) -> NDArray[np.float16]:
    """Compute the half-wave rectified change of log energy in 16 bands.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at `WORK_RATE`, full scale ±1.

    Returns
    -------
    ndarray of float16, shape (n // HOP, BANDS)
        Per band zero mean and unit variance (all zero where the band is still);
        dimensionless; row *k* describes the sound around sample ``k * HOP``.

    Raises
    ------
    SignalError
        If `sound` is not one-dimensional.
    """
    builder = OnsetBuilder()
    builder.feed(sound)
    return np.concatenate(list(builder.finish()))


def _changes(energy: NDArray[np.float32]) -> Iterator[NDArray[np.float16]]:
    """Yield the features of energies (rows, BANDS), piece by piece: neither need lie in memory whole."""
    count = energy.shape[0]
    # A floor at a tenth of the usual energy keeps the noise between words from counting as change.
    floor = (0.1 * np.median(energy[:: max(1, count // 20_000)], axis=0) + 1e-9).astype(np.float32)
    total, squares = np.zeros(BANDS), np.zeros(BANDS)
    for start in range(0, count, _PIECE):
        change = _rises(energy, start, floor)
        total += change.sum(axis=0, dtype=np.float64)
        squares += np.einsum("ij,ij->j", change, change, dtype=np.float64)
    mean = total / count
    spread = np.sqrt(np.maximum(squares / count - mean**2, 0.0))
    scale = np.where(spread > 1e-4, 1 / np.maximum(spread, 1e-4), 0.0).astype(np.float32)
    for start in range(0, count, _PIECE):
        change = (_rises(energy, start, floor) - mean.astype(np.float32)) * scale
        yield np.clip(change, -8, 8, out=change).astype(np.float16)


def _rises(energy: NDArray[np.float32], start: int, floor: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return by how much the log energy rises into each row of a piece; the first of all rises by nothing."""
    low = max(0, start - 1)
    logs = np.log(energy[low : start + _PIECE] + floor)
    rises = np.maximum(np.diff(logs, axis=0), 0.0)
    return rises if start else np.concatenate([np.zeros((1, BANDS), np.float32), rises])
