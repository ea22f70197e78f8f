"""Sound played faster, slower or backwards at its own pitch, in pieces that join without a seam.

Waveform similarity overlap-add: short grains are taken where they continue what was played, within a tolerance
(Verhelst and Roelands, ICASSP 1993). Backwards, grains run forward and their order turns round: words stay words.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.taper import hann

HOP = 960  # output samples between grains; each is twice as long
_SEARCH = 480  # samples a grain may be taken earlier or later
_SEAM = 100  # grains after which one lies exactly where it belongs: pieces that begin there join


def at_pitch(
    read: Callable[[int, int], NDArray[np.float32]], begin: int, first: int, count: int, speed: float
) -> NDArray[np.float32]:
    """Return a stretch of what is heard at a speed.

    Parameters
    ----------
    read : callable
        Gives ``(start, count)`` samples of the sound as (count, channels), silence outside.
    begin : int
        Sample of the sound that is heard first.
    first, count : int
        Which samples of what is heard: counted from there, at any speed.
    speed : float
        Samples of the sound for each that is heard; negative: backwards.

    Returns
    -------
    ndarray, shape (count, channels), float32
    """
    if speed == 1:
        return read(begin + first, count)
    low = first // HOP // _SEAM * _SEAM
    grains = range(low, (first + count) // HOP + 2)
    window = hann(2 * HOP + 1)[:-1, None]
    where = [begin + round(number * HOP * speed) for number in grains]
    least, most = min(where) - HOP - _SEARCH, max(where) + 2 * HOP + _SEARCH
    sound = read(least, most - least)
    mono = sound.mean(axis=1)
    out = np.zeros(((len(grains) + 1) * HOP, sound.shape[1]), np.float32)
    after: int | None = None
    for slot, (number, nominal) in enumerate(zip(grains, where, strict=True)):
        at = nominal - HOP - least
        if number % _SEAM and after is not None:
            at += _best(mono, at, mono[after : after + 2 * HOP])
        out[slot * HOP : slot * HOP + 2 * HOP] += sound[at : at + 2 * HOP] * window
        after = min(at + HOP, mono.size - 2 * HOP)
    # A grain is centred on its own time: the first half of the first lies before it.
    from_here = first - low * HOP + HOP
    return out[from_here : from_here + count]


def _best(mono: NDArray[np.float32], at: int, wanted: NDArray[np.float32]) -> int:
    """Return how much later a grain is best taken to continue what was played."""
    room = mono[at - _SEARCH : at + 2 * HOP + _SEARCH]
    likeness = np.correlate(room[::4], wanted[::4], mode="valid")  # a quarter of the samples tell it as well
    energy = np.convolve(room[::4] ** 2, np.ones(wanted[::4].size, np.float32), mode="valid")
    return int(np.argmax(likeness / np.sqrt(energy + 1e-9))) * 4 - _SEARCH
