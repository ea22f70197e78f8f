"""What every channel of a recording is, heard in the one pass over its samples: levels, timecode, leakage."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vesk.core.ltc.crosstalk import crosstalk_db
from vesk.core.ltc.listen import LtcListener
from vesk.core.ltc.track import LtcTrack
from vesk.core.sound.levels import LevelMeter

_EXCERPT_S = 10


class ChannelEars:
    """All channels of a recording, fed block by block in order, one row a channel."""

    def __init__(self, sample_rate: int, channels: int) -> None:
        self._rate = sample_rate
        self._meters = [LevelMeter() for _ in range(channels)]
        self._listeners = [LtcListener(sample_rate) for _ in range(channels)]
        self._leaks: dict[int, float] | None = None

    def feed(self, rows: NDArray[np.float32]) -> None:
        """Take the next samples, float32 (channels, n)."""
        for row, meter, listener in zip(rows, self._meters, self._listeners, strict=True):
            meter.feed(row)
            listener.feed(row)
        coded = [n for n, listener in enumerate(self._listeners) if listener.reading]
        if coded and self._leaks is None and rows.shape[1] > self._rate:
            piece = rows[:, : _EXCERPT_S * self._rate]
            told = {n: crosstalk_db(piece[coded[0]], piece[n]) for n in range(rows.shape[0]) if n not in coded}
            self._leaks = {n: value for n, value in told.items() if value is not None}

    def finish(self, hums: dict[int, float]) -> dict[str, Any]:
        """Return plain values: ``levels`` (a list), ``ltc`` and ``leaks_db`` by channel, ``hum`` by channel."""
        tracks = {n: listener.finish() for n, listener in enumerate(self._listeners)}
        return {
            "levels": [asdict(meter.finish()) for meter in self._meters],
            "ltc": {str(n): track_json(track) for n, track in tracks.items() if track is not None},
            "leaks_db": {str(n): round(value, 1) for n, value in (self._leaks or {}).items()},
            "hum": {str(n): round(share, 3) for n, share in hums.items()},
        }


def track_json(track: LtcTrack) -> dict[str, Any]:
    """Return what timecode on a channel says, as plain values; times exact as ``"num/den"``."""
    run = track.longest
    return {
        "rate": str(track.rate.fps),
        "drop": track.rate.drop,
        "start": str(track.start),
        "label": track.label,
        "first_sample": run.first_sample,
        "first_label": str(run.first),
        "standard_error_s": run.se_sample / track.sample_rate,
        "ppm": track.ppm,
        "standard_error_ppm": track.se_ppm,
        "frames": track.frames,
        "missing": sum(one.missing for one in track.runs),
        "user_bits": track.user_bits,
        "runs": [
            {
                "first_sample": one.first_sample, "first": str(one.first), "last": str(one.last),
                "frames": one.frames, "missing": one.missing,
            }
            for one in track.runs
        ],
        "breaks": [
            {"at_s": one.at_sample / track.sample_rate, "expected": str(one.expected), "found": str(one.found)}
            for one in track.breaks
        ],
    }  # fmt: skip
