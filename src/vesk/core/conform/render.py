"""Lay a sound recording onto picture time by a map: what is delivered and what is listened to."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from math import floor

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.resample import fractional_shift, stretch
from vesk.core.timemap import AnyMap, TimeMap, pieces_of

BLOCK = 30 * 48_000  # output samples at once: memory stays flat on any length
_MARGIN = 256  # source samples on either side, so that filters have run in

ReadSound = Callable[[int, int], NDArray[np.float32]]
"""Reads ``(start, count)`` samples as (count, channels), silence outside the recording."""


@dataclass(frozen=True, slots=True)
class LaidPiece:
    """One sound recording laid on picture time.

    Attributes
    ----------
    read : callable
        Reads its samples.
    frames : int
        Up to which of its samples it is used: its length.
    laid : TimeMap
        Sound seconds to picture seconds.
    first : int
        From which of its samples on it is used.
    """

    read: ReadSound
    frames: int
    laid: TimeMap
    first: int = 0

    def covers(self, sample_rate: int) -> tuple[int, int]:
        """Return the first and past-the-last picture sample this piece sounds at.

        Parameters
        ----------
        sample_rate : int
            Of what is made, Hz.
        """
        start = self.laid(Fraction(self.first, sample_rate)) * sample_rate
        stop = self.laid(Fraction(self.frames, sample_rate)) * sample_rate
        return -floor(-start), -floor(-stop)


def laid_pieces(read: ReadSound, frames: int, laid: AnyMap, sample_rate: int) -> list[LaidPiece]:
    """Return a recording as the straight pieces of its map: one, or one more for each jump mended.

    Parameters
    ----------
    read : ReadSound
        Reads (start, count) samples of it as (count, channels).
    frames : int
        Its length, samples.
    laid : AnyMap
        Its seconds to picture seconds.
    sample_rate : int
        Of it, Hz.
    """
    made = []
    for low, high, piece in pieces_of(laid):
        first = 0 if low is None else min(max(round(low * sample_rate), 0), frames)
        last = frames if high is None else min(max(round(high * sample_rate), 0), frames)
        if last > first:
            made.append(LaidPiece(read, last, piece, first))
    return made


def picture_samples(frames: int, fps: Fraction, sample_rate: int) -> int:
    """Return how many samples are as long as `frames` of picture, to the nearest sample.

    Parameters
    ----------
    frames : int
        Length of the picture, frames.
    fps : Fraction
        Of the picture, frames a second.
    sample_rate : int
        Of the sound to be made, Hz.
    """
    return round(Fraction(frames) / fps * sample_rate)


def render_range(piece: LaidPiece, start: int, count: int, sample_rate: int) -> NDArray[np.float32]:
    """Render picture samples ``start`` to ``start + count`` of one piece.

    Parameters
    ----------
    piece : LaidPiece
        The sound and its map.
    start, count : int
        Picture samples at `sample_rate`; may lie outside the sound (silence).
    sample_rate : int
        Of the sound and of the result, Hz.

    Returns
    -------
    ndarray of float32, shape (count, channels)
        At nominal rate and a whole-sample slip the samples are the recording's own, untouched.
    """
    back = piece.laid.inverse()
    rate = piece.laid.rate
    first = floor(back(Fraction(start, sample_rate)) * sample_rate)
    if rate == 1:
        position = piece.laid(Fraction(first, sample_rate)) * sample_rate  # where `first` falls
        late = float(position - start)
        if late == 0.0:
            return piece.read(first, count)
        raw = piece.read(first - _MARGIN, count + 2 * _MARGIN)
        # `first` falls up to a sample before `start`: delay by what is missing to the next whole one.
        moved = fractional_shift(raw, late + 1.0)
        return np.ascontiguousarray(moved[_MARGIN + 1 : _MARGIN + 1 + count])
    need = floor(Fraction(count) / rate) + 4 * _MARGIN
    raw = piece.read(first - 2 * _MARGIN, need)
    out = stretch(raw, float(rate))
    position = piece.laid(Fraction(first - 2 * _MARGIN, sample_rate)) * sample_rate - start
    whole = floor(position)
    moved = fractional_shift(out, float(position - whole))
    return np.ascontiguousarray(moved[-whole : -whole + count])


def render(pieces: list[LaidPiece], *, frames: int, channels: int, sample_rate: int) -> Iterator[NDArray[np.float32]]:
    """Render several recordings onto one picture, block by block; silence where none sounds.

    Parameters
    ----------
    pieces : list of LaidPiece
        Where two overlap, the later one in the list wins.
    frames : int
        Length wanted in samples.
    channels : int
        Channels of the result; a piece with fewer leaves the rest silent.
    sample_rate : int
        Hz.

    Yields
    ------
    ndarray of float32, shape (block, channels)
    """
    for start in range(0, frames, BLOCK):
        yield render_block(pieces, start, min(BLOCK, frames - start), channels=channels, sample_rate=sample_rate)


def render_block(
    pieces: list[LaidPiece], start: int, count: int, *, channels: int, sample_rate: int
) -> NDArray[np.float32]:
    """Render picture samples ``start`` to ``start + count`` of several pieces: (count, channels); the later wins.

    Parameters
    ----------
    pieces : list of LaidPiece
        Laid on the picture; where they overlap the later one is heard.
    start : int
        First picture sample.
    count : int
        Samples.
    channels : int
        Of the result; a piece with fewer leaves the rest silent.
    sample_rate : int
        Hz.
    """
    out = np.zeros((count, channels), np.float32)
    for piece in pieces:
        low, high = piece.covers(sample_rate)
        a, b = max(low, start), min(high, start + count)
        if b <= a:
            continue
        block = render_range(piece, a, b - a, sample_rate)
        width = min(channels, block.shape[1])
        out[a - start : b - start, :width] = block[:, :width]
    return out
