"""A whole recording's waveform, one channel at a time, as the points of a drawing."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, log2

import numpy as np

from vesk.dailies.located import Located
from vesk.media.peaks import FIRST_LEVEL, LAST_LEVEL, read_peaks

WIDTH, HEIGHT = 860, 34


@dataclass(frozen=True, slots=True)
class Drawn:
    """One channel: its name, its highest level (dB of full scale; None when silent), and the polygon's points."""

    name: str
    peak_db: float | None
    points: str


def waveforms(place: Located, *, most: int = 8) -> list[Drawn]:
    """Draw a recording's channels; none before it was listened to."""
    facts = place.facts
    if not facts.channels or not place.entry.peaks.exists() or not facts.samples:
        return []
    level = min(max(FIRST_LEVEL, ceil(log2(max(1, facts.samples / WIDTH)))), LAST_LEVEL)
    count = max(1, ceil(facts.samples / 2**level))
    channels = list(range(min(facts.channels, most)))
    peaks = read_peaks(place.entry.peaks, level, 0, count, channels).astype(np.float64) / 32768
    drawn = []
    for channel in channels:
        low, high = peaks[:, channel, 0], peaks[:, channel, 1]
        top = float(np.abs(peaks[:, channel]).max(initial=0.0))
        scale = 0.48 * HEIGHT / max(top, 1e-6)  # each to its own height: what is quiet is seen as well
        x = np.arange(count) * WIDTH / count
        upper = [f"{a:.1f},{HEIGHT / 2 - b * scale:.1f}" for a, b in zip(x, high, strict=True)]
        lower = [f"{a:.1f},{HEIGHT / 2 - b * scale:.1f}" for a, b in zip(x[::-1], low[::-1], strict=True)]
        name = facts.track_names[channel] if channel < len(facts.track_names) else f"channel {channel + 1}"
        drawn.append(Drawn(name, 20 * float(np.log10(top)) if top > 1e-5 else None, " ".join(upper + lower)))
    return drawn
