"""Decode the timecode that a file's sound channels carry."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from vesk.core.errors import RefusedError
from vesk.core.heard import LTC_HEARD, ltc_heard
from vesk.core.ltc.listen import LtcListener
from vesk.media import cache, probe


def decode_file(path: Path, *, channel: int | None = None) -> dict[str, Any]:
    """Decode every channel of a file, or one of them (from 0), block by block.

    Returns
    -------
    dict
        ``channels``: a list of what each channel with timecode says, ``channel`` counted from 1, times
        exact as ``"num/den"`` beside their floats.

    Raises
    ------
    MediaError
        If the file cannot be read.
    RefusedError
        If it has no such channel.
    """
    facts = probe.read_facts(path)
    if not facts.channels:
        raise RefusedError(f"{path}: it has no sound.")
    if channel is not None and channel >= facts.channels:
        raise RefusedError(f"{path}: it has {facts.channels} channels, none is number {channel + 1}.")
    wanted = range(facts.channels) if channel is None else [channel]
    listeners = {n: LtcListener(facts.sample_rate) for n in wanted}
    for block in cache.sound_blocks(path, facts):
        for n, listener in listeners.items():
            listener.feed(np.ascontiguousarray(block[:, n]))
    told = []
    for n, listener in listeners.items():
        track = listener.finish()
        if track is not None:
            values = LTC_HEARD.fields(ltc_heard(track))
            told.append({"channel": n + 1, **values, "fps": float(track.rate.fps), "start_s": float(track.start)})
    return {"path": str(path), "sample_rate": facts.sample_rate, "channels": told}
