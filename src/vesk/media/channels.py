"""What every channel of a recording is, heard in the one pass over its samples: levels, timecode, leakage."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vesk.core.heard import Heard, ltc_heard
from vesk.core.ltc.crosstalk import crosstalk_db, mixed_with_timecode
from vesk.core.ltc.listen import LtcListener
from vesk.core.sound.levels import LevelMeter

_EXCERPT_S = 10
_SAME_S = 0.01  # two readings of one timecode


class ChannelEars:
    """All channels of a recording, fed block by block in order, one row a channel."""

    def __init__(self, sample_rate: int, channels: int) -> None:
        self._rate = sample_rate
        self._meters = [LevelMeter() for _ in range(channels)]
        self._listeners = [LtcListener(sample_rate) for _ in range(channels)]
        self._leaks: dict[int, float] | None = None
        self._own = 0
        self.mixed: set[int] = set()  # those in which timecode is louder than what should be heard

    def feed(self, rows: NDArray[np.float32]) -> None:
        """Take the next samples, float32 (channels, n)."""
        for row, meter, listener in zip(rows, self._meters, self._listeners, strict=True):
            meter.feed(row)
            listener.feed(row)
        coded = [n for n, listener in enumerate(self._listeners) if listener.reading]
        if coded and self._leaks is None and rows.shape[1] > self._rate:
            piece = rows[:, : _EXCERPT_S * self._rate]
            own, mixed = mixed_with_timecode([piece[n] for n in coded], self._rate)
            self._own, self.mixed = coded[own], {coded[n] for n in mixed}
            asked = [n for n in range(rows.shape[0]) if n not in coded or n in self.mixed]
            told = {n: crosstalk_db(piece[coded[own]], piece[n]) for n in asked}
            self._leaks = {n: value for n, value in told.items() if value is not None}

    def finish(self, hums: dict[int, float]) -> Heard:
        """Return what was heard; `hums` are the shares of hum, 0 to 1, by channel."""
        tracks = {n: listener.finish() for n, listener in enumerate(self._listeners)}
        found = {n: track for n, track in tracks.items() if track is not None}
        if self._own in found:  # perhaps it was not read on some at first
            own = found[self._own].start
            self.mixed = {n for n in found if n in (self._leaks or {}) and abs(found[n].start - own) < _SAME_S}
        return Heard(
            tuple(meter.finish() for meter in self._meters),
            {n: ltc_heard(track) for n, track in found.items() if n not in self.mixed},
            {n: round(value, 1) for n, value in (self._leaks or {}).items()},
            {n: round(share, 3) for n, share in hums.items()},
        )
