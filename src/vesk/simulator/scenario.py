"""A scenario: what is shot, by which devices, with which faults. Read from TOML."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from vesk.core.errors import ScenarioError, VeskError
from vesk.core.timecode import FrameRate, Timecode


@dataclass(frozen=True, slots=True)
class Device:
    """A camera or recorder and the faults of its clocks and microphones.

    `header` is what its files carry: ``jammed`` timecode, ``zero`` every time, ``rec run`` (it counts on only while it
    records), ``held`` (all parts of a recording bear the label of its start), ``song`` (a camera's is the playback's,
    anew in every take), or ``none``; `header_off_s` how far a jammed header is set wrong. `ltc` is the channel (from 0)
    that a timecode box feeds, at `ltc_db`; -1 is none; `leak_db` how much of it leaks into the others.

    `split_s` is how long its files may be: it goes on in the next one. A `mono` recorder writes a file a channel
    (beside one of all of them where it is `poly`, too), a `mono` camera its sound so beside a picture without; a
    `mixed` recorder writes their mix in stereo, a file a channel beside it, and the mix once more 12 dB lower.

    `rate` is that of its picture where it is not the day's. `hum_db` is how loud the mains is in its sound; a channel
    named ``empty`` is not connected.

    `anonymous` files tell neither the device nor its reel, scene or take.

    `ppm` is the error of its sample (and frame) clock against true time, `tc_ppm` that of its
    timecode clock; positive is fast. `phase` is how late, in frames, its frames begin after the
    timecode's. `distance_m` is how far its microphones stand from what is heard. `swing_ppm` is by how much its
    sample clock's rate swings about `ppm`, as warm afternoons have it, once in `swing_s`.
    """

    tag: str
    name: str
    kind: str
    folder: str
    roll: str
    ppm: float = 0.0
    tc_ppm: float = 0.0
    jams: tuple[str, ...] = ()
    phase: float = 0.0
    distance_m: float = 1.0
    late_ms: float = 0.0
    noise_db: float = -70.0
    level_db: float = 0.0
    room: float = 0.15
    clip: bool = False
    channels: tuple[str, ...] = ("scratch",)
    sample_rate: int = 48_000
    gop: int = 12
    header: str = "jammed"
    header_off_s: float = 0.0
    ltc: int = -1
    ltc_db: float = -14.0
    leak_db: float = -200.0
    bits: int = 24
    split_s: float = 0.0
    mono: bool = False
    poly: bool = False
    mixed: bool = False
    rate: str = ""
    hum_db: float = -200.0
    anonymous: bool = False
    swing_ppm: float = 0.0
    swing_s: float = 600.0


@dataclass(frozen=True, slots=True)
class Rolling:
    """One recording: which device ran from when to when, seconds of the take's own time.

    `jumps` are moments (seconds of the recording) at which it gained or, negative, lost samples.
    `capture_fps` is the rate a camera really recorded at: its file plays slower. `named` says whether it tells so.
    `tracks` is how many of its channels were armed; 0 is all. `ltc_jump` is when, and by how many frames, the box
    that feeds it was set anew. `walks` are moments (seconds of the take's own time) and how many metres further than
    its microphone's distance somebody is heard from then, evenly in between.
    Where a camera `loses` sound (second of the recording, for how long), what follows keeps its time stamps: it codes
    its sound as AAC then, since uncompressed sound has none in a movie. What somebody `trims` off a movie (seconds of
    its beginning and its end) stays in the file, left out by its edit lists.
    """

    source: str
    start_s: float
    stop_s: float
    file: str = ""
    jumps: tuple[tuple[float, int], ...] = ()
    capture_fps: int = 0
    named: bool = True
    tracks: int = 0
    ltc_jump: tuple[float, int] = (0.0, 0)
    walks: tuple[tuple[float, float], ...] = ()
    loses: tuple[tuple[float, float], ...] = ()
    trims: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Shot:
    """One take: when, what is heard, and who rolled; `songs` are the moments at which the day's playback begins."""

    slate: str
    take: int
    start: str
    length_s: float
    clap_s: float | None
    talk: tuple[tuple[float, float], ...]
    horns: tuple[float, ...]
    lines: int
    rolling: tuple[Rolling, ...]
    note: str = ""
    delivery: int = 0
    songs: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Scenario:
    """A production's shoot day to simulate; `broken` files and paperwork are laid in after, `lost` ones taken away."""

    production: str
    day: int
    date: str
    rate: FrameRate
    seed: int
    devices: tuple[Device, ...]
    shots: tuple[Shot, ...]
    broken: tuple[dict[str, Any], ...] = field(default=())
    lost: tuple[str, ...] = ()

    def only(self, *, before: str = "24:00:00", since: str = "00:00:00") -> Scenario:
        """Return what was shot between two labels ``HH:MM:SS``, with the files that are broken there."""
        shots = tuple(shot for shot in self.shots if since <= shot.start[:8] < before)
        own = {rolling.source for shot in shots for rolling in shot.rolling}
        folders = {device.folder for device in self.devices if device.tag in own}
        broken = tuple(
            one for one in self.broken if one["path"].split("/")[0] in folders and since <= one.get("at", "") < before
        )
        return replace(self, shots=shots, broken=broken)

    def device(self, tag: str) -> Device:
        """Return a device by its tag."""
        for device in self.devices:
            if device.tag == tag:
                return device
        raise ScenarioError(f"the scenario names no device {tag!r}")

    def moment(self, label: str) -> Fraction:
        """Return true seconds since midnight of a label ``HH:MM:SS`` or ``HH:MM:SS:FF``."""
        full = label if label.count(":") + label.count(";") == 3 else f"{label}{';' if self.rate.drop else ':'}00"
        return Timecode.parse(full, self.rate).seconds


def load(path: Path) -> Scenario:
    """Read a scenario file.

    Raises
    ------
    ScenarioError
        If it is no scenario, naming the part that is wrong.
    """
    try:
        with path.open("rb") as file:
            raw = tomllib.load(file)
        head = raw["production"]
        devices = tuple(
            Device(**{**device, "jams": tuple(device.get("jams", ())), "channels": tuple(device["channels"])})
            for device in raw["device"]
        )
        shots = tuple(_shot(number, shot) for number, shot in enumerate(raw["shot"]))
        scenario = Scenario(
            head["name"], head["day"], str(head["date"]), FrameRate.parse(str(head["rate"])), head["seed"],
            devices, shots, tuple(raw.get("broken", ())), tuple(raw.get("lost", ())),
        )  # fmt: skip
        for shot in shots:
            scenario.moment(shot.start)
            for rolling in shot.rolling:
                scenario.device(rolling.source)
    except (OSError, KeyError, TypeError, ValueError, VeskError) as error:
        raise ScenarioError(
            f"{path}: this scenario cannot be read ({error!r}). Compare it with the one that ships."
        ) from error
    return scenario


def _rolling(raw: dict[str, Any]) -> Rolling:
    jumps = tuple((float(at), int(samples)) for at, samples in raw.get("jumps", ()))
    return Rolling(
        raw["source"], float(raw["from"]), float(raw["to"]), raw.get("file", ""), jumps,
        int(raw.get("capture_fps", 0)), bool(raw.get("named", True)), int(raw.get("tracks", 0)),
        (float(raw["ltc_jump"][0]), int(raw["ltc_jump"][1])) if "ltc_jump" in raw else (0.0, 0),
        tuple((float(at), float(metres)) for at, metres in raw.get("walks", ())),
        tuple((float(at), float(seconds)) for at, seconds in raw.get("loses", ())),
        (float(raw.get("trims", (0, 0))[0]), float(raw.get("trims", (0, 0))[1])),
    )  # fmt: skip


def _shot(number: int, raw: dict[str, Any]) -> Shot:
    return Shot(
        slate=str(raw["slate"]),
        take=int(raw["take"]),
        start=raw["start"],
        length_s=float(raw["length"]),
        clap_s=raw.get("clap"),
        talk=tuple((float(a), float(b)) for a, b in raw.get("talk", ())),
        horns=tuple(float(t) for t in raw.get("horn", ())),
        songs=tuple(float(t) for t in raw.get("song", ())),
        lines=int(raw.get("lines", 1000 + number)),
        rolling=tuple(_rolling(one) for one in raw["roll"]),
        note=raw.get("note", ""),
        # Lines that several takes share are spoken anew in each.
        delivery=int(raw["take"]) if "lines" in raw else 0,
    )
