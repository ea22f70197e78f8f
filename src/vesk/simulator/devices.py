"""Devices roll: from true time to a file's samples, frames, labels, and the truth about them."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from fractions import Fraction
from math import floor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.distance import SPEED_OF_SOUND, distance_delay_s
from vesk.core.timecode import FrameRate, Timecode
from vesk.simulator.scenario import Device, Rolling, Scenario, Shot

CAMERA = "camera"
REC_RUN, HELD, SONG = "rec run", "held", "song"
_SONG_BEGINS_S = 3600.0  # by its own timecode


@dataclass(frozen=True, slots=True)
class Take:
    """One recording to make, and what is true about it.

    Attributes
    ----------
    begins : float
        True time of its first frame or sample, seconds since midnight.
    label : Timecode or None
        Of a camera's first frame; None where it writes none.
    code : float
        Timecode seconds of the box that feeds it, at `begins`.
    capture_fps : int
        At which its picture was really recorded; 0 where that is the rate it plays at.
    time_reference : int
        Of a recorder's first sample.
    walks, started
        When, in seconds since `started` (true time of the take), somebody is how many metres further away.
    loses
        At which of its seconds, and for how long, packets of its sound are lost.
    trims
        How many seconds of its beginning and its end an edit list leaves out.
    of : Take or None
        The whole that this file is a part of, from its frame or sample `skipped` on.
    """

    device: Device
    shot: Shot
    path: Path
    begins: float
    length_s: float
    label: Timecode | None
    time_reference: int
    rate: FrameRate
    seed: int
    jumps: tuple[tuple[float, int], ...] = ()
    code: float = 0.0
    capture_fps: int = 0
    named: bool = True
    of: Take | None = None
    skipped: int = 0
    ltc_jump: tuple[float, int] = (0.0, 0)
    walks: tuple[tuple[float, float], ...] = ()
    started: float = 0.0
    loses: tuple[tuple[float, float], ...] = ()
    trims: tuple[float, float] = (0.0, 0.0)

    @property
    def clock(self) -> float:
        """Device seconds per true second."""
        return 1 + self.device.ppm * 1e-6

    @property
    def frames(self) -> int:
        """Picture frames."""
        return floor(self.length_s * (self.capture_fps or float(self.rate.fps)))

    @property
    def samples(self) -> int:
        """Sound samples a channel."""
        if self.device.kind == CAMERA:
            return round(Fraction(self.frames) / self.rate.fps * self.device.sample_rate)
        return round(self.length_s * self.device.sample_rate)

    def times(self) -> NDArray[np.float64]:
        """Return the true time of every sound sample."""
        steady = self.begins + np.arange(self.samples) / (self.device.sample_rate * self.clock)
        return np.asarray(steady - self._swung(steady))

    def own_time(self, true: float) -> float:
        """Return the recording's own seconds at a true time."""
        return (true - self.begins) * self.clock + float(self._swung(np.array([true]))[0])

    def _swung(self, true: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return by how much its clock has swung ahead of a steady one since it began, seconds."""
        one = self.device
        if not one.swing_ppm:
            return np.zeros(true.size)
        turn = 2 * np.pi / one.swing_s
        ahead = one.swing_ppm * 1e-6 / turn * (np.cos(turn * self.begins) - np.cos(turn * true))
        return np.asarray(ahead)

    def way_s(self, true: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return by how much later than from its usual distance somebody is heard at true times, seconds."""
        if not self.walks:
            return np.zeros(true.size)
        at, metres = zip(*self.walks, strict=True)
        return np.asarray(np.interp(true - self.started, at, metres)) / SPEED_OF_SOUND

    @property
    def hears_late_s(self) -> float:
        """How late its first channel hears, seconds."""
        return distance_delay_s(self.device.distance_m) + self.device.late_ms / 1000


def _timecode_at(device: Device, scenario: Scenario, true: float) -> float:
    """Return the device's own timecode, seconds, at a true time: right at its last jam, drifting since."""
    jams = {float(scenario.moment(jam)): jam for jam in device.jams}
    last = max((jam for jam in jams if jam <= true), default=true)
    shown = last
    if device.rate and last in jams:
        # It was given the same label as the others, and counts on from there at its own rate.
        rate = FrameRate.parse(device.rate)
        shown = float(Timecode.parse(f"{jams[last][:8]}{';' if rate.drop else ':'}00", rate).seconds)
    return shown + (true - last) * (1 + device.tc_ppm * 1e-6)


def takes(scenario: Scenario, out: Path) -> list[Take]:
    """Lay out every recording of the day."""
    made: list[Take] = []
    counts: dict[str, int] = {}
    for shot in scenario.shots:
        for rolling in shot.rolling:
            device = scenario.device(rolling.source)
            if rolling.tracks:
                device = replace(device, channels=device.channels[: rolling.tracks])
            counts[device.tag] = counts.get(device.tag, 0) + 1
            whole = _take(scenario, shot, rolling, device, counts[device.tag], out)
            if device.header == REC_RUN:
                whole = _counted_on(whole, next((one for one in reversed(made) if one.device.tag == device.tag), None))
            made += _parts(whole) if device.split_s else [whole]
    return made


def _counted_on(take: Take, before: Take | None) -> Take:
    """Have a recording begin where the same device's last one ended: its timecode stands still in between."""
    if before is None:
        return take
    if take.label is not None and before.label is not None:
        return replace(take, label=before.label + before.frames)
    return replace(take, time_reference=before.time_reference + before.samples)


def _parts(whole: Take) -> list[Take]:
    """Cut a recording where its device begins the next file: names count on, each part has the label of its start."""
    camera = whole.device.kind == CAMERA
    rate = float(whole.rate.fps) if camera else whole.device.sample_rate
    count = whole.frames if camera else whole.samples
    step = round(whole.device.split_s * rate)
    parts = []
    for number, skipped in enumerate(range(0, count, step)):
        name = f"{_name_of_part(whole.path.stem, number)}{whole.path.suffix}"
        begins = whole.begins + skipped / (rate * whole.clock)
        label = whole.label
        if label is not None and whole.device.header not in {"zero", HELD}:
            label = Timecode((label.frame + skipped) % whole.rate.frames_per_day, whole.rate)
        reference = whole.time_reference + (0 if camera or whole.device.header in {"zero", HELD} else skipped)
        part = replace(
            whole, path=whole.path.with_name(name), begins=begins, length_s=min(step, count - skipped) / rate,
            label=label, time_reference=reference, of=whole, skipped=skipped, code=whole.code + begins - whole.begins,
        )  # fmt: skip
        parts.append(part)
    return parts


def _name_of_part(stem: str, number: int) -> str:
    if before := re.fullmatch(r"(\D+)01(\d{4})", stem):  # as some cameras do: the part, then the clip
        return f"{before[1]}{1 + number:02d}{before[2]}"
    digits = re.search(r"\d*$", stem)[0]  # type: ignore[index]
    return f"{stem.removesuffix(digits)}{int(digits or 1) + number:0{len(digits)}d}"


def _take(scenario: Scenario, shot: Shot, rolling: Rolling, device: Device, number: int, out: Path) -> Take:
    rate = FrameRate.parse(device.rate) if device.rate else scenario.rate
    started = float(scenario.moment(shot.start))
    wanted = started + rolling.start_s
    code = _timecode_at(device, scenario, wanted)
    seed = scenario.seed * 1_000_003 + number * 101 + sum(map(ord, device.tag))
    length = rolling.stop_s - rolling.start_s
    if device.kind == CAMERA:
        frame = round(code * float(rate.fps))
        # Its frames begin `phase` of a frame after its timecode's do.
        begins = wanted + (frame + device.phase) / float(rate.fps) - code
        off = round(device.header_off_s * float(rate.fps))
        shown = {"zero": 0, "jammed": frame + off, HELD: frame + off, REC_RUN: frame + off}.get(device.header)
        if device.header == SONG and shot.songs:
            shown = round((_SONG_BEGINS_S + rolling.start_s - shot.songs[0]) * float(rate.fps))
        label = None if shown is None else Timecode(shown % rate.frames_per_day, rate)
        name = rolling.file or f"{device.roll}_{number:03d}.mov"
        path = out / device.folder / name
        at_begin = _timecode_at(device, scenario, begins)
        return Take(
            device, shot, path, begins, length, label, 0, rate, seed, rolling.jumps, at_begin, rolling.capture_fps,
            rolling.named, ltc_jump=rolling.ltc_jump, walks=rolling.walks, started=started, loses=rolling.loses,
            trims=rolling.trims,
        )  # fmt: skip
    name = rolling.file or f"{shot.slate}_{shot.take:02d}.wav"
    # A recorder starts when it starts: a part of a sample off any frame.
    reference = round(code * device.sample_rate)
    begins = wanted + reference / device.sample_rate - code
    # Of a whole day at most, as labels are: one set wrong the other way still begins after midnight.
    off = round(device.header_off_s * device.sample_rate)
    shown = (reference + off) % (86_400 * device.sample_rate) if off else reference
    reference = shown if device.header in {"jammed", HELD, REC_RUN} else 0
    path = out / device.folder / name
    at_begin = _timecode_at(device, scenario, begins)
    return Take(
        device, shot, path, begins, length, None, reference, rate, seed, rolling.jumps, at_begin,
        ltc_jump=rolling.ltc_jump, walks=rolling.walks, started=started,
    )  # fmt: skip
