"""What is heard of recordings laid on an axis: by their maps, at one rate, at any speed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from vesk.core.conform.render import laid_pieces, render_block
from vesk.core.sound.pitch import at_pitch
from vesk.core.timemap import AnyMap
from vesk.dailies.located import Located


@dataclass(frozen=True, slots=True)
class Playable:
    """A recording on the axis.

    Attributes
    ----------
    place : Located
    to_axis : AnyMap
        Its own seconds to seconds of the axis.
    channels : tuple of int
        Which of its channels are heard, from 0; several are summed.
    """

    place: Located
    to_axis: AnyMap
    channels: tuple[int, ...]


def play(
    what: Sequence[Playable], begin_s: Fraction, first: int, count: int, *, rate: int, speed: float = 1.0
) -> NDArray[np.float32]:
    """Return what is heard, one channel.

    Parameters
    ----------
    what : sequence of Playable
        Files of one device: each sounds where it lies.
    begin_s : Fraction
        Second of the axis that is heard first.
    first, count : int
        Which samples of what is heard, counted from there.
    rate : int
        Hz.
    speed : float
        Seconds of the axis a second; negative: backwards.

    Returns
    -------
    ndarray, shape (count,), float32
    """

    def read(start: int, samples: int) -> NDArray[np.float32]:
        out = np.zeros((samples, 1), np.float32)
        for one in what:
            if _sounds(one, Fraction(start, rate), Fraction(start + samples, rate)):
                out[:, 0] += _block(one, start, samples, rate)
        return out

    return at_pitch(read, round(begin_s * rate), first, count, speed)[:, 0]


def _sounds(one: Playable, low: Fraction, high: Fraction) -> bool:
    return one.to_axis(Fraction(0)) < high and one.to_axis(one.place.facts.duration) > low


def _block(one: Playable, start: int, count: int, rate: int) -> NDArray[np.float32]:
    with one.place.reader() as reader:
        own = reader.sample_rate
        # A recording of another rate is laid at its own, and read off between its samples: for the ear it is enough.
        low = start * own // rate
        need = count if own == rate else (start + count) * own // rate - low + 2
        parts = laid_pieces(reader.read, reader.frames, one.to_axis, own)
        block = render_block(parts, low, need, channels=reader.channels, sample_rate=own)
        mono = np.asarray(block[:, list(one.channels)].mean(axis=1), np.float32)
    if own == rate:
        return mono
    at = (start + np.arange(count)) * (own / rate) - low
    return np.asarray(np.interp(at, np.arange(mono.size), mono), np.float32)
