"""Listen for timecode on a channel that passes by in blocks: cheaply until it is there, in full from then on."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vesk.core.ltc.edges import find_edges
from vesk.core.ltc.frames import Frames, join, read_frames
from vesk.core.ltc.track import LEAST_FRAMES, LtcTrack, lay_track

EXCERPT_S = 0.35  # of every block: holds seven frames
_CARRY_S = 0.12  # more than two frames, so that none is lost at a seam


class LtcListener:
    """One channel, fed block by block in order.

    Until timecode shows, an excerpt of each block is looked at; the block in which it
    shows, and the one before, are then read in full, as are all that follow.
    """

    def __init__(self, sample_rate: int) -> None:
        self._rate = sample_rate
        self._parts: list[Frames] = []
        self._last: NDArray[np.float32] = np.zeros(0, np.float32)
        self._at = 0  # samples fed
        self._reading = False

    @property
    def reading(self) -> bool:
        """Whether timecode has been found."""
        return self._reading

    def feed(self, block: NDArray[np.float32]) -> None:
        """Take the next samples of the channel, float32 (n,).

        Parameters
        ----------
        block : ndarray of float32
            Full scale ±1, in order, any length; kept until the next comes, so not to be written to.
        """
        if not self._reading and self._shows(block):
            self._reading = True
            block_start, piece = self._at - self._last.size, np.concatenate([self._last, block])
        elif self._reading:
            block_start, piece = self._at - self._last.size, np.concatenate([self._last, block])
        else:
            self._last, self._at = block, self._at + block.size
            return
        self._read(piece, block_start)
        carry = round(_CARRY_S * self._rate)
        self._last, self._at = piece[-carry:].copy(), self._at + block.size

    def _shows(self, block: NDArray[np.float32]) -> bool:
        length = round(EXCERPT_S * self._rate)
        for start in (0, max(0, block.size - length)):
            excerpt = block[start : start + length]
            if shows_ltc(excerpt, self._rate):
                return True
        return False

    def _read(self, piece: NDArray[np.float32], first: int) -> None:
        frames = read_frames(find_edges(piece, self._rate), self._rate)
        start = frames.start + first
        # A frame that a seam showed twice counts once.
        seen = self._parts[-1].start[-1] + 0.5 * self._rate / 36 if self._parts and self._parts[-1].size else -np.inf
        new = start > seen
        values = {name: getattr(frames, name)[new] for name in Frames.__slots__}
        values["start"] = start[new]
        if new.any():
            self._parts.append(Frames(**values))

    def finish(self) -> LtcTrack | None:
        """Return what was read; None when there is no timecode."""
        return lay_track(join(self._parts), self._rate) if self._parts else None


def shows_ltc(excerpt: NDArray[np.float32], sample_rate: int) -> bool:
    """Say whether an excerpt (n,) holds timecode: three frames that follow one another.

    Parameters
    ----------
    excerpt : ndarray of float32
        Full scale ±1.
    sample_rate : int
        Hz.
    """
    frames = read_frames(find_edges(excerpt, sample_rate), sample_rate)
    return frames.size >= LEAST_FRAMES and lay_track(frames, sample_rate) is not None


def decode(sound: NDArray[np.float32], sample_rate: int) -> LtcTrack | None:
    """Decode a whole channel.

    Parameters
    ----------
    sound : ndarray of float32, shape (n,)
        One channel at its own sample rate, full scale ±1.
    sample_rate : int
        As the file names it, Hz.

    Returns
    -------
    LtcTrack or None
        None when there is no timecode.
    """
    listener = LtcListener(sample_rate)
    for start in range(0, sound.size, 1 << 19):
        listener.feed(sound[start : start + (1 << 19)])
    return listener.finish()
