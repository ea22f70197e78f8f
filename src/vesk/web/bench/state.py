"""What the bench's canvases draw from: plain values, every figure computed here."""

from __future__ import annotations

from fractions import Fraction
from math import floor
from typing import Any

from vesk.actions.intake import facts_of
from vesk.actions.standing import Standing
from vesk.core.conform.correction import error_at
from vesk.core.timecode import FrameRate, Timecode

PLACES = ("head", "middle", "tail")
STRIP = 5  # picture frames shown in a window


def window_times(now: Standing) -> tuple[float, ...]:
    """Return the picture times the three windows open at: a clear moment near each place."""
    if now.found is not None and len(now.found.windows) == len(PLACES):
        return now.found.windows
    head, middle, tail = now.points
    inset = min(2.0, (tail - head) / 6)
    return head + inset, middle, tail - inset


def label_at(now: Standing, picture_s: float, clock: FrameRate) -> str:
    """Return the timecode label of a picture time."""
    facts = facts_of(now.picture)
    start, rate = facts.start(clock)
    if start is None:
        return f"{picture_s:.2f} s"
    return str(Timecode.at(start + Fraction(floor(picture_s * float(now.fps))) / now.fps, rate))


def bench_state(now: Standing) -> dict[str, Any]:
    """Return the canvases' state."""
    picture, sound = facts_of(now.picture), facts_of(now.sound)
    fps = float(now.fps)
    windows = []
    for place, at in zip(PLACES, window_times(now), strict=True):
        error = None
        if now.found is not None and now.found.line is not None and now.errors is not None:
            error = error_at(now.laid, now.found.line, at, late_s=now.late_s)
        windows.append({"place": place, "at_s": at, "frame": floor(at * fps), "error_s": error})
    return {
        "pairing": now.pairing.id,
        "version": now.pairing.version,
        "fps": fps,
        "late_s": now.late_s,
        "laid": {"offset_s": float(now.laid.offset), "rate": float(now.laid.rate)},
        "picture": {
            "id": now.picture.id, "rate": picture.sample_rate, "samples": picture.samples, "frames": picture.frames,
            "channels": picture.channels,
        },
        "sound": {
            "id": now.sound.id, "rate": sound.sample_rate, "samples": sound.samples, "channels": sound.channels,
            "ready": True,
        },
        "windows": windows,
        "strip": STRIP,
    }  # fmt: skip
