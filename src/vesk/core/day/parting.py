"""Whether two devices that were fed with one clock keep together: how far they part over several recordings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vesk.core.day.against import Sighting
from vesk.core.wording import duration, signed

_SURE = 1.96
_LEAST_SE_S = 2e-6
_CLOCK_SE_PPM = 0.05  # better than that no two free clocks agree by themselves


@dataclass(frozen=True, slots=True)
class Parting:
    """Two devices over the recordings that both made.

    Attributes
    ----------
    picture, sound : str
    count : int
        Recordings of the two that were measured.
    span_s : float
        From the first to the last.
    parts_s, se_s : float
        By how much the picture's clock goes ahead over that, and the standard error, seconds.
    says : str
        In a sentence.
    """

    picture: str
    sound: str
    count: int
    span_s: float
    parts_s: float
    se_s: float
    says: str

    @property
    def ppm(self) -> float:
        """The same as a rate."""
        return 1e6 * self.parts_s / self.span_s


def partings(sightings: Sequence[Sighting], fps: float, *, tolerance_frames: float) -> list[Parting]:
    """Return how far each two devices part, of those that made two recordings or more together.

    Parameters
    ----------
    sightings : sequence of Sighting
        Those set aside do not count. A jam between them is no parting: pass those of one stretch.
    fps : float
        Frames a second.
    tolerance_frames : float
        What is let pass.
    """
    pairs: dict[tuple[str, str], list[Sighting]] = {}
    for one in sightings:
        if one.used:
            pairs.setdefault((one.picture, one.sound), []).append(one)
    made = []
    for (picture, sound), own in sorted(pairs.items()):
        at = np.array([one.at_s for one in own])
        if len(own) < 2 or np.ptp(at) < 1.0:
            continue
        apart = np.array([one.apart_s for one in own])
        weight = np.array([max(one.se_s, _LEAST_SE_S) ** -2 for one in own])
        middle = float((weight * at).sum() / weight.sum())
        spread = float((weight * (at - middle) ** 2).sum())
        slope = float((weight * (at - middle) * apart).sum() / spread)
        level = float((weight * apart).sum() / weight.sum())
        left = apart - level - slope * (at - middle)
        # Labels are rounded, and clocks breathe: what lies about the line tells more than the measurements claim.
        scale = float((weight * left**2).sum() / (len(own) - 2)) if len(own) > 2 else 1.0
        se = float(np.sqrt(max(scale, 1.0) / spread))
        span = float(np.ptp(at))
        if len(own) == 2:
            se = max(se, 1e-6 * _CLOCK_SE_PPM)
        made.append(_said(picture, sound, len(own), span, slope * span, se * span, fps, tolerance_frames))
    return made


def _said(
    picture: str, sound: str, count: int, span_s: float, parts_s: float, se_s: float, fps: float, tolerance: float
) -> Parting:
    frames, band = parts_s * fps, _SURE * se_s * fps
    way = f", {picture} {'ahead' if frames > 0 else 'behind'}" if abs(frames) > band else ""
    figure = (
        f"{picture} with {sound}: over {count} recordings in {duration(span_s)} they part by {abs(frames):.3f} "
        f"± {band:.3f} f{way} ({signed(1e6 * parts_s / span_s, 2)} ± {_SURE * 1e6 * se_s / span_s:.2f} ppm)"
    )
    if abs(frames) <= band:
        verdict = "no parting can be told: they keep together" if band <= tolerance else "too little to tell"
    elif abs(frames) + band <= tolerance:
        verdict = "they keep together within the tolerance"
    else:
        verdict = f"they do not keep together: {abs(frames) / span_s * 3600:.2f} frames an hour"
    return Parting(picture, sound, count, span_s, parts_s, se_s, f"{figure}: {verdict}.")
