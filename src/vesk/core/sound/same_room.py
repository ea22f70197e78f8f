"""Whether what is heard on two sides of a step is heard from one place: a room answers each place in its own way.

Samples that were lost move everything and change nothing else. Whoever walks, or somebody else who speaks, is answered
by other walls: what one microphone hears of the other, beyond the direct sound, is another pattern there.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from vesk.core.sound import fine
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.taper import hann

_WINDOW, _FAR_S = int(0.75 * WORK_RATE), 15.0  # what is far from the step tells less of who stood where
_NEAREST, _LATEST = int(0.0025 * WORK_RATE), int(0.06 * WORK_RATE)  # between the direct sound and the last echo asked
_EDGES_HZ = (300.0, 700.0, 5000.0, 6500.0)  # below and above half heard: sharp edges would ring alike anywhere
_FLOOR = 0.05  # of the mean energy: where the sound has none, nothing is known
_TELLS = 0.2  # correlation of two halves of one side: less, and the room is not heard there
_SAME, _OTHER = 0.5, 0.4  # of 45 jumps 0.73 and more, of 36 changes of who speaks 33 times 0.39 and less


@dataclass(frozen=True, slots=True)
class Side:
    """What is heard on one side of a step: the path along which it lies, and between which picture times, s."""

    path: fine.Path
    low_s: float
    high_s: float


def from_one_place(picture: Hearing, sound: Hearing, before: Side, after: Side) -> bool | None:
    """Say whether both sides of a step are heard from one place; None where the room is not heard well enough.

    Parameters
    ----------
    picture, sound : Hearing
    before, after : Side
        Each up to the step, and fitted: a twentieth of a millisecond off, nothing is alike.

    Notes
    -----
    How the picture's microphone hears what the sound's does is estimated as a filter, by least squares over windows,
    twice a side by turns. Pitch and spectrum of a voice make it longer to both sides of the direct sound alike, a room
    to one: so its two sides are subtracted. The correlation of what is left before and after, divided by that of the
    halves of each side, is 1 for one place and 0 for two.
    """
    sides = [_halves(picture, sound, side) for side in (_near(before, at_end=True), _near(after, at_end=False))]
    if sides[0] is None or sides[1] is None:
        return None
    (first, second), (third, fourth) = sides[0], sides[1]
    own = _alike(first, second), _alike(third, fourth)
    if min(own) < _TELLS:
        return None
    across = np.mean([_alike(one, other) for one in (first, second) for other in (third, fourth)])
    share = float(across) / float(np.sqrt(own[0] * own[1]))
    return None if _OTHER < share < _SAME else share >= _SAME


def _near(side: Side, *, at_end: bool) -> Side:
    """Return the part of a side that is next to the step."""
    low, high = side.low_s, side.high_s
    return Side(side.path, max(low, high - _FAR_S), high) if at_end else Side(side.path, low, min(high, low + _FAR_S))


def _halves(picture: Hearing, sound: Hearing, side: Side) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """Estimate twice how a room answers beyond the direct sound: by every other window. None for too few."""
    starts = np.arange(side.low_s * WORK_RATE, side.high_s * WORK_RATE - _WINDOW, _WINDOW // 2).astype(np.int64)
    if starts.size < 2:
        return None
    offsets = side.path.offset_at((starts + _WINDOW / 2) / WORK_RATE)
    laid, late = fine.laid_on(sound, starts, _WINDOW, offsets, side.path.slope)
    size = fft.next_fast_len(2 * _WINDOW, real=True)
    heard = fft.rfft(np.stack([picture.window(int(start), _WINDOW) for start in starts]) * hann(_WINDOW), size)
    own = fft.rfft(laid * hann(_WINDOW), size)
    hertz = np.arange(own.shape[1]) * (WORK_RATE / size)
    own *= side.path.polarity * np.exp(2j * np.pi * np.arange(own.shape[1]) * late[:, None] / size)
    low, full, last, high = _EDGES_HZ
    rise = np.clip((hertz - low) / (full - low), 0, 1) * np.clip((high - hertz) / (high - last), 0, 1)
    weight = 0.5 - 0.5 * np.cos(np.pi * rise)
    one, other = (_answer(heard[half::2], own[half::2], weight, size) for half in (0, 1))
    return one, other


def _answer(
    heard: NDArray[np.complex64], own: NDArray[np.complex64], weight: NDArray[np.float64], size: int
) -> NDArray[np.float64]:
    """Return the filter from the one to the other, its two sides subtracted, without the direct sound."""
    energy = (np.abs(own) ** 2).sum(axis=0)
    transfer = weight * (heard * np.conj(own)).sum(axis=0) / (energy + _FLOOR * energy.mean() + 1e-20)
    response = fft.irfft(transfer, size)
    return np.asarray(response[_NEAREST:_LATEST] - response[-_NEAREST:-_LATEST:-1], np.float64)


def _alike(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    return float(one @ other / max(float(np.linalg.norm(one) * np.linalg.norm(other)), 1e-20))
