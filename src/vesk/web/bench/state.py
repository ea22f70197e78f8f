"""What the bench's canvases draw from: plain values, every figure computed here."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import floor
from typing import Any

from vesk.actions.composing import by_part
from vesk.actions.facts import facts_of
from vesk.actions.pairing_status import PairingStatus
from vesk.core.conform.correction import error_at
from vesk.core.kinds import Scope
from vesk.core.timecode import FrameRate, Timecode
from vesk.core.timemap import pieces_of
from vesk.store import days

PLACES = ("head", "middle", "tail")
STRIP = 5  # picture frames shown in a window


def window_times(now: PairingStatus) -> tuple[float, ...]:
    """Return the picture times the three windows open at: a clear moment near each place."""
    if now.found is not None and len(now.found.windows) == len(PLACES):
        return now.found.windows
    head, middle, tail = now.points
    inset = min(2.0, (tail - head) / 6)
    return head + inset, middle, tail - inset


@dataclass(frozen=True, slots=True)
class Part:
    """A part of the sum that lays a take: whose correction it is, in words, slip in frames, rate in ppm, by whom."""

    whose: str
    slip_frames: float
    ppm: float
    by: str


def parts_of(now: PairingStatus) -> list[Part]:
    """Return what the correction of a pairing is the sum of, in the order in which the parts stand."""
    length = days.rate_of(now.day).day
    pair = f"{now.picture_source.tag} with {now.sound_source.tag}"
    whose = {Scope.DEVICE: f"{pair}, the device", Scope.STRETCH: f"{pair}, a part of the day", Scope.RUN: "its run"}
    made = []
    for row in now.parts:
        part = by_part(row, now.pairing, now.picture, length)
        made.append(Part(whose[row.scope], float(part.slip * now.fps), float(part.ppm), row.made_by))
    if made and now.correction is not None:
        above, beneath = now.as_corrected, now.beneath
        slip, ppm = above.slip - beneath.slip, above.ppm - beneath.ppm
        made.append(Part("the take's own, above them", float(slip * now.fps), float(ppm), now.correction.made_by))
    return made


def label_at(now: PairingStatus, picture_s: float, clock: FrameRate) -> str:
    """Return the timecode label of a picture time."""
    start = now.picture.start
    if start is None:
        return f"{picture_s:.2f} s"
    return str(Timecode.at(start + Fraction(floor(picture_s * float(now.fps))) / now.fps, clock))


def laid_near(now: PairingStatus, picture_s: float) -> tuple[float, float]:
    """Return offset and rate by which the sound is laid around a picture time: past a mended jump, its own."""
    laid = now.laid
    target = Fraction(picture_s)
    for low, _, piece in reversed(pieces_of(laid)):
        if low is None or piece(low) <= target:
            return float(piece.offset), float(piece.rate)
    return float(laid.offset), float(laid.rate)


def bench_state(now: PairingStatus) -> dict[str, Any]:
    """Return the canvases' state."""
    picture, sound = facts_of(now.picture), facts_of(now.sound)
    fps = float(now.fps)
    windows = []
    for place, at in zip(PLACES, window_times(now), strict=True):
        error = None
        if now.found is not None and now.found.line is not None and now.errors is not None:
            error = error_at(now.laid, now.judged.line or now.found.line, at, late_s=now.late_s)
        offset, rate = laid_near(now, at)
        windows.append({
            "place": place, "at_s": at, "frame": floor(at * fps), "error_s": error,
            "laid": {"offset_s": offset, "rate": rate},
        })  # fmt: skip
    return {
        "pairing": now.pairing.id,
        "version": now.pairing.version,
        "fps": fps,
        "late_s": now.late_s,
        "picture": {
            "id": now.picture.id, "rate": picture.sample_rate, "samples": picture.samples, "frames": picture.frames,
            "channels": picture.channels, "channel": now.scratch_channel,
        },
        "sound": {
            "id": now.sound.id, "rate": sound.sample_rate, "samples": sound.samples, "channels": sound.channels,
            "ready": True,
        },
        "windows": windows,
        "strip": STRIP,
    }  # fmt: skip
