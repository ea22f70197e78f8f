"""Hard days as files, taken in and solved as a folder is, against the simulator's truth: what is found, what is false.

Each is a handful of short takes with one thing wrong that days have; pictures, sounds and labels are real files.
"""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from vesk.core.timecode import FrameRate
from vesk.dailies.folder import Walked, walk_folder
from vesk.simulator import shoot
from vesk.simulator.scenario import Device, Rolling, Scenario, Shot

LENGTH_S, TAKES = 24.0, 4
JAM = ("07:30:00",)
_QUARTER = 0.25


def camera(tag: str, **more: object) -> Device:
    """Return a camera that was jammed in the morning and hears well."""
    values: dict[str, object] = {
        "tag": tag, "name": f"camera {tag}", "kind": "camera", "folder": tag, "roll": f"{tag}001", "jams": JAM,
        "distance_m": 2.0, "noise_db": -52.0, "level_db": -10.0, "channels": ("scratch",),
    }  # fmt: skip
    return Device(**{**values, **more})  # type: ignore[arg-type]


def recorder(tag: str = "S1", **more: object) -> Device:
    """Return a sound recorder that was jammed in the morning."""
    values: dict[str, object] = {
        "tag": tag, "name": f"recorder {tag}", "kind": "recorder", "folder": tag, "roll": f"{tag}R", "jams": JAM,
        "distance_m": 0.6, "noise_db": -66.0, "level_db": -6.0, "channels": ("mix",),
    }  # fmt: skip
    return Device(**{**values, **more})  # type: ignore[arg-type]


@dataclass(frozen=True, slots=True)
class HardDay:
    """A hard day of files.

    Attributes
    ----------
    devices : sequence of Device
    rate : str
        The day's.
    claps : bool
        Whether takes have one.
    lines : bool
        Whether all takes have the same lines.
    capture_fps : dict of str to int
        Cameras that recorded at another rate than they play.
    names : callable or None
        Names a file: tag, number of the take from 1 on, slate.
    alone : tuple of str
        Devices that roll once more when nobody else does.
    left : tuple of str
        Devices whose card still holds the day before, at the same times of day.
    song : bool
        Whether one song is played in all takes; what is said then is their slates.
    takes : int
    unrecorded : tuple of int
        Takes in which no sound recorder rolled.
    """

    name: str
    devices: Sequence[Device]
    rate: str = "25"
    claps: bool = True
    lines: bool = False
    capture_fps: dict[str, int] = field(default_factory=dict)
    names: Callable[[str, int, str], str] | None = None
    alone: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    song: bool = False
    takes: int = TAKES
    unrecorded: tuple[int, ...] = ()


def _nameless(tag: str, take: int, _slate: str) -> str:
    """Name files as one counter for all of a card would: they tell no device."""
    number = 10 * take + sum(map(ord, tag)) % 10
    return f"clip{number:04}.{'wav' if tag.startswith('S') else 'mov'}"


def _slated(tag: str, take: int, slate: str) -> str:
    return f"{slate}_{take:02}.{'wav' if tag.startswith('S') else 'mov'}"


def _second(tag: str, take: int, slate: str) -> str:
    """Name sound files by slate and take, those of a second recorder with a letter."""
    return f"{slate}_{take:02}{'b' if tag == 'S2' else ''}.wav" if tag.startswith("S") else ""


FLAT = {"folder": "card"}
NONE = {"header": "none"}
ZERO = {"header": "zero"}
REC_RUN = {"header": "rec run"}
HELD = {"header": "held"}
DAYS = (
    HardDay("a clean day", (camera("A"), camera("B"), recorder())),
    HardDay(
        "flat folder, three cameras, two recorders",
        (*(camera(tag, **FLAT) for tag in "ABE"), recorder(**FLAT), recorder("S2", distance_m=3.0, **FLAT)),
        names=_second,
    ),
    HardDay(
        "the same, names tell nothing", (*(camera(tag, anonymous=True, **FLAT) for tag in "AB"), recorder(**FLAT)),
        names=_nameless,
    ),
    HardDay("nothing has timecode", (camera("A", **NONE), camera("B", **NONE), recorder(**ZERO))),
    HardDay(
        "drop and non-drop mixed",
        (camera("A", rate="29.97df"), camera("B", rate="29.97"), recorder()), rate="29.97df",
    ),
    HardDay("one camera an hour off", (camera("A"), camera("B", header_off_s=-3600.0), recorder())),
    HardDay(
        "one camera off by as much as takes lie apart", (camera("A"), camera("B", header_off_s=600.0), recorder()),
        alone=("S1",),
    ),
    HardDay(
        "the recorder so", (camera("A"), camera("B"), recorder(header_off_s=600.0)), alone=("A",),
    ),
    HardDay(
        "a second recorder an hour off",
        (camera("A"), camera("B"), recorder(), recorder("S2", folder="S2", distance_m=0.9, header_off_s=3600.0)),
    ),
    HardDay(
        "two recorders under one name",
        (camera("A"), recorder(folder="S"), recorder("S2", folder="S", distance_m=4.0)), names=_second,
    ),
    HardDay(
        "silent camera, slates and claps, no clock", (camera("A"), camera("M", channels=(), **NONE), recorder()),
        names=_slated,
    ),
    HardDay(
        "silent camera, claps, its clock off", (camera("A"), camera("M", channels=(), header_off_s=0.6), recorder()),
    ),
    HardDay(
        "camera sound a frame early",
        (camera("A"), camera("C", late_ms=-40.0, ltc=0, channels=("timecode", "scratch")), recorder()),
    ),
    HardDay("a microphone at 25 m", (camera("A"), camera("B", distance_m=25.0, level_db=-20.0), recorder())),
    HardDay("off-speed beside real time", (camera("A"), camera("H", channels=(), **NONE), recorder()),
            capture_fps={"H": 100}),
    HardDay("takes of the same lines, one nobody recorded", (camera("A"), recorder()), lines=True, alone=("A",)),
    HardDay(
        "files of a run restart at zero", (camera("A"), camera("E", split_s=8.0, header="zero"), recorder()),
        names=lambda tag, take, _slate: f"clip{10 * take:04}.mov" if tag == "E" else "",
    ),
    HardDay(
        "a camera's parts bear their first one's label", (camera("A"), camera("E", split_s=8.0, **HELD), recorder()),
        names=lambda tag, take, _slate: f"clip{10 * take:04}.mov" if tag == "E" else "",
    ),
    HardDay(
        "the recorder's so", (camera("A"), camera("B"), recorder(split_s=8.0, **HELD)),
        names=lambda tag, take, _slate: f"rec{10 * take:04}.wav" if tag == "S1" else "",
    ),
    HardDay(
        "cameras of one kind in folders below one",
        (*(camera(tag, anonymous=True, folder=f"footage/{tag}_CAM/card 1") for tag in "AB"), recorder()),
        names=lambda tag, take, _slate: f"C{take:04}.mov" if tag in "AB" else "",
    ),
    HardDay(
        "parts numbered before their clip", (camera("A"), camera("E", split_s=8.0, **NONE), recorder()),
        names=lambda tag, take, _slate: f"XA01{41 + take:04}.mov" if tag == "E" else "",
    ),
    HardDay(
        "a mix, a file a track and a lower copy of a take, no timecode",
        (camera("A"), camera("B"), recorder(channels=("boom", "lav"), mixed=True, **NONE)),
        names=lambda tag, take, _slate: f"270321_{take:03}.wav" if tag == "S1" else "",
    ),
    HardDay(
        "all tracks in one file, and each in its own beside it",
        (camera("A"), camera("B"), recorder(channels=("boom", "lav"), mono=True, poly=True)),
    ),
    HardDay(
        "cameras write their sound beside the picture",
        (camera("A", mono=True), camera("B", mono=True, channels=("scratch", "scratch"), **NONE), recorder()),
    ),
    HardDay(
        "the same in parts, no timecode",
        (camera("A"), camera("E", mono=True, split_s=8.0, **NONE), recorder()),
        names=lambda tag, take, _slate: f"clip{10 * take:04}.mov" if tag == "E" else "",
    ),
    HardDay("a camera's timecode counts while it records", (camera("A", **REC_RUN), camera("B"), recorder())),
    HardDay("all timecode counts while it records", (camera("A", **REC_RUN), recorder(**REC_RUN))),
    HardDay("the recorder's card still holds the day before", (camera("A"), camera("B"), recorder()), left=("S1",)),
    HardDay(
        "the same, and a camera without sound", (camera("A"), camera("M", channels=()), recorder()),
        left=("S1",),
    ),
    HardDay(
        "one song in every take, a camera without a clock", (camera("A"), camera("B", **NONE), recorder()),
        song=True, takes=9,
    ),
    HardDay(
        "the same, two takes nobody recorded", (camera("A"), camera("B", **NONE), recorder()),
        song=True, takes=9, unrecorded=(4, 7),
    ),
    HardDay(
        "the cameras' timecode is the song's, anew in every take",
        (camera("A", header="song"), camera("B", header="song"), recorder()), song=True, takes=7,
    ),
    HardDay("48 048 Hz labelled 48 000", (camera("A"), recorder(ppm=1000.0))),
)  # fmt: skip


def scenario_of(day: HardDay, seed: int, *, slate: str = "24A", first: int = 1, date: str = "2027-03-21") -> Scenario:
    """Return a hard day as the simulator makes it; its takes are counted from `first` on."""
    shots = []
    for take in range(first, first + day.takes):
        rolling = []
        for place, device in enumerate(day.devices):
            begin = (0.0 if device.kind == "recorder" else 3.0) + 0.37 * place
            name = day.names(device.tag, take, slate) if day.names else ""
            stop = LENGTH_S - 0.29 * place - 0.53 * (7 * take % 5)  # people stop when they do
            begin -= 1.9 * (3 * take % 7) / 7 if day.song else 0.0
            if device.kind == "recorder" and take - first + 1 in day.unrecorded:
                continue
            slow = day.capture_fps.get(device.tag, 0)
            rolling.append(Rolling(device.tag, begin, stop, name, capture_fps=slow))
        shots.append(_shot(take, slate, take - first + 1, day, tuple(rolling)))
    for number, tag in enumerate(day.alone, start=day.takes + 1):
        shots.append(_shot(number, "24A", number, day, (Rolling(tag, 3.0, LENGTH_S),)))
    rate = FrameRate.parse(day.rate)
    return Scenario("The Lantern Ferry", 9, date, rate, seed, tuple(day.devices), tuple(shots))


def _leave(day: HardDay, media: Path, elsewhere: Path) -> None:
    """Leave the takes of the day before on some cards."""
    before = scenario_of(day, 12, slate="23", first=11, date="2027-03-20")
    shoot.shoot(before, elsewhere, processes=2)
    for device in day.devices:
        for path in sorted((elsewhere / device.folder).glob("*")) if device.tag in day.left else ():
            shutil.copy(path, media / device.folder / path.name.replace(f"{device.roll}_0", f"{device.roll}_1"))


def _shot(take: int, slate: str, place: int, day: HardDay, rolling: tuple[Rolling, ...]) -> Shot:
    start = f"{9 + place // 6:02}:{10 * (place % 6):02}:00"
    return Shot(
        slate, take, start, LENGTH_S, 5.2 if day.claps else None,
        ((1.5, 4.2),) if day.song else ((8.0, 12.5), (14.0, 21.0)), (),
        7 if day.lines else take, rolling, delivery=take if day.lines else 0,
        songs=(7.0 + 1.5 * (5 * take % 8) / 8,) if day.song else (),
    )  # fmt: skip


def look(day: HardDay, folder: Path) -> list[object]:
    """Make a day, take it in, and return its line of the table."""
    made = scenario_of(day, 11)
    media = folder / "media"
    planned = shoot.shoot(made, media, processes=2)
    if day.left:
        _leave(day, media, folder / "the day before")
    begun = time.process_time()
    walked = walk_folder(media, folder / "cache", rate=made.rate)
    spent = time.process_time() - begun
    slow = {str(one.path.relative_to(media)) for one in planned if one.capture_fps}
    true = {
        (pair["picture"], pair["sound"]): pair["offset_s"]
        for pair in shoot.truth(planned, made, media)["pairs"]
        if pair["shared_s"] > 3.0 and pair["picture"] not in slow
    }
    later = {file.path for one in walked.known.recordings.values() for file in one.item.files[1:]}
    # A run lies where its first file does.
    true = {pair: at for pair, at in true.items() if not later.intersection(pair)}
    asked = 0 if walked.solution is None else len(walked.solution.questions)
    return [day.name, len(true), *_tally(walked, true), asked, spent]


def _tally(walked: Walked, true: dict[tuple[str, str], float]) -> list[object]:
    """Count pairings that are placed right, those that hold or are proposed wrongly, and what was not found."""
    right, wrong, off, inside = set(), 0, [], []
    for one in walked.pairings:
        files = tuple(walked.known.recordings[name].item.files[0].path for name in (one.picture, one.sound))
        line = one.judged.line
        if line is None:
            continue
        at = line.offset_s - one.judged.late_s
        truth = true.get(files)  # type: ignore[call-overload]
        frame = float(1 / one.fps)
        if truth is None or abs(at - truth) > (0.8 if one.found.unheard else _QUARTER) * frame:
            wrong += one.judged.contradiction is None
            continue
        right.add(files)
        off.append(abs(at - truth) * 1e3)
        if one.found.unheard and one.judged.place is not None:
            inside.append(abs(at - truth) <= 1.96 * one.judged.place.se_s)
    return [len(right), wrong, float(np.median(off)) if off else 0.0, max(off, default=0.0),
            f"{sum(inside)} of {len(inside)}" if inside else ""]  # fmt: skip


def main() -> int:
    """Run and print."""
    print("\nhard days as files: pairings that ran together, placed right (sound: within a quarter frame), false ones")
    print("(proposed elsewhere and no contradiction told), off where the picture wants it, mute ones inside their band")
    head = f"{'true':>5}{'right':>6}{'false':>6}{'median':>8}{'worst ms':>9}{'in band':>9}{'asked':>6}{'CPU s':>7}"
    print(f"{'':46}{head}")
    for day in DAYS:
        with tempfile.TemporaryDirectory() as place:
            name, true, right, wrong, middle, worst, band, asked, spent = look(day, Path(place))
        found = f"{true:5}{right:6}{wrong:6}{middle:8.2f}{worst:9.2f}{band!s:>9}{asked:6}{spent:7.1f}"
        print(f"{name!s:46}{found}", flush=True)
    return 0
