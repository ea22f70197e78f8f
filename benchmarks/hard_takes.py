"""A day of hard takes as real files, taken in as a folder is: what is told of each, against how it was made.

The sounds are those of the other benchmarks, whose truth is known; here they pass through files, headers, coders and
the day's own head. Run with a folder's name, it leaves the files there to be looked at in the application.
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

import echoes
import jumps
import material
import moving
import numpy as np
import soxr
import traps
from day_files import camera, recorder
from material import Pair, Sound

from vesk.core.sound.features import WORK_RATE
from vesk.core.timecode import FrameRate
from vesk.dailies.folder import walk_folder
from vesk.dailies.judging import Measured
from vesk.simulator import shoot
from vesk.simulator.devices import Take
from vesk.simulator.scenario import Rolling, Scenario, Shot

PPM = 3.0
_REST_S = 120  # between two takes
_RATE = 48_000


def _walk(name: str, seed: int) -> Pair:
    _, seconds, metres = next(row for row in moving.WALKS if name in row[0])
    return material.moved(seconds, seed, metres=metres, ppm=PPM)


def _echo(name: str, seed: int, *, recorders: bool = False) -> Pair:
    seconds, degrade, _ = echoes.CASES[name]
    one, rng = material.pair(seconds, seed, snr_db=20.0, room=0.2, ppm=PPM), np.random.default_rng(seed)
    if recorders:
        return replace(one, sound=degrade(one.sound, rng))
    return replace(one, picture=degrade(one.picture, rng))


def _hum(seed: int) -> Pair:
    """Make a pair with mains hum and its harmonics in both, 10 dB over the talk, each with its own phase."""
    one = material.pair(40, seed, ppm=PPM)
    both = []
    for phase, sound in enumerate((one.picture, one.sound)):
        at = np.arange(sound.size) / WORK_RATE
        hum = np.sum([np.sin(2 * np.pi * 50 * k * at + k * (1 + phase)) / k for k in range(1, 40)], axis=0)
        both.append(np.asarray(sound + hum / hum.std() * sound.std() * 10**0.5, np.float32))
    return replace(one, picture=both[0], sound=both[1])


def _nothing_shared(two: tuple[Sound, Sound]) -> Pair:
    return Pair(*two, np.nan, PPM)


CASES: dict[str, Callable[[], Pair]] = {
    "plain": partial(material.pair, 40, 1, ppm=PPM),
    "plain, half a minute": partial(material.pair, 30, 2, ppm=PPM),
    "plain, a little longer": partial(material.pair, 50, 3, ppm=PPM),
    "a wall, as loud, in the scratch": lambda: _echo("a wall, as loud", 5),
    "an echo twice as loud, in the sound": lambda: _echo("an echo twice as loud as the direct", 6, recorders=True),
    "a hall, direct sound 18 dB under it": lambda: _echo("a hall, 18 dB", 7),
    "in turn near and far, a jump": partial(
        material.conversation, 60, 8, places_s=(0.0, 3e-3, 14e-3), jumps=[(31.0, -700)], ppm=PPM
    ),
    "in turn near and far": partial(material.conversation, 60, 9, places_s=(0.0, 9e-3), ppm=PPM),
    "walks off": lambda: _walk("1 to 8 m within", 5001),
    "to and fro": lambda: _walk("to and fro", 5002),
    "the microphone is carried": lambda: _walk("carried", 5003),
    "a clock that swings by 4 ppm": lambda: material.moved(300, 5004, rate_ppm=moving.swing(4, 250), ppm=PPM),
    "hum 10 dB over the talk": lambda: _hum(11),
    "a buffer lost every few seconds": lambda: jumps.made("a buffer every 5 to 10 s, 60 s", 2, ppm=PPM),
    "a buffer written twice, in a pause": lambda: jumps.made("in a pause of 1.5 s, 60 s", 2, ppm=PPM),
    "silence put in": lambda: jumps.made("silence put in, 60 s", 2, ppm=PPM),
    "the scratch's buffer written twice": lambda: jumps.of_scratch(
        material.pair(60, 16, snr_db=15, ppm=PPM), [(33.3, "repeated", 512)]
    ),
    "silence put into the scratch": lambda: jumps.of_scratch(
        material.pair(60, 17, snr_db=15, ppm=PPM), [(22.7, "silence", 341)]
    ),
    "one asks, one answers": partial(
        material.conversation, 40, 8017, places_s=(0.0, 7.8e-3), turn_s=(22.0, 24.0), ppm=PPM
    ),
    "two jumps": partial(material.pair, 60, 12, jumps=[(25.3, 240), (41.0, -96)], ppm=PPM),
    "another take": lambda: _nothing_shared(traps.other_take(2)),
    "another take, the same playback": lambda: _nothing_shared(traps.playback(3, 0.0, same=False)),
    "hiss 18 dB over the talk": partial(material.pair, 60, 13, snr_db=-18, ppm=PPM),
    "packets of the scratch lost": partial(material.pair, 60, 14, ppm=PPM),
    "trimmed by its edit list": partial(material.pair, 60, 15, ppm=PPM),
}
LOSES = {"packets of the scratch lost": ((17.0, 0.21), (38.0, 1.3))}  # second, seconds
TRIMS = {"trimmed by its edit list": (7.24, 3.4)}  # seconds of its beginning and its end


def _laid(one: Pair, seed: int) -> Pair:
    """Return a pair whose sound begins within half a sample of its picture, as two jammed devices begin."""
    early = 0 if np.isnan(one.offset_s) else round(one.offset_s * WORK_RATE)
    sound = one.sound
    if early > 0:
        before = np.random.default_rng(seed).normal(size=early) * sound.std() * 0.01
        sound = np.concatenate([before.astype(np.float32), sound])
    return replace(one, sound=sound[max(0, -early) :])


def make(media: Path) -> dict[str, tuple[Pair, float]]:
    """Make the files, and return what each take was made of, with by how much the truth's offset moved."""
    made, shots, heard, begin = {}, [], {}, 9 * 3600
    for number, (name, of) in enumerate(CASES.items(), 1):
        one = of()
        laid = _laid(one, number)
        moved = (laid.sound.size - one.sound.size) / WORK_RATE
        both = [soxr.resample(each / each.std() * 0.1, WORK_RATE, _RATE) for each in (laid.picture, laid.sound)]
        seconds = int((min(each.size for each in both) / _RATE - 0.2) * 25) / 25
        label = f"{begin // 3600:02}:{begin // 60 % 60:02}:{begin % 60:02}"
        names = f"A001_{number:03}.mov", f"S1_{number:03}.wav"
        rolling = (
            Rolling("A", 0.0, seconds, names[0], loses=LOSES.get(name, ()), trims=TRIMS.get(name, (0.0, 0.0))),
            Rolling("S1", 0.0, seconds, names[1]),
        )  # fmt: skip
        talk = ((0.1, seconds - 0.1),)
        shots.append(Shot(f"{10 + number}A", 1, label, seconds, None, talk, (), number, rolling, note=name))
        begin += int(seconds) + _REST_S
        made[names[0]] = (one, moved)
        heard.update(zip(names, both, strict=True))

    def records(take: Take, _events: object) -> Sound:
        sound = heard[take.path.name][: take.samples]
        sound = np.pad(sound, (0, take.samples - sound.size))
        return np.clip(sound, -0.99, 0.99)[:, None].astype(np.float32)

    devices = (camera("A", distance_m=1.0), recorder(distance_m=1.0))
    day = Scenario("The Lantern Ferry", 9, "2027-03-21", FrameRate.parse("25"), 5, devices, tuple(shots))
    shoot.shoot(day, media, processes=1, records=records)
    return made


def _off_ms(told: Measured, one: Pair, moved: float, trimmed_s: float) -> list[float]:
    """Return how far the line lies from where picture wants the sound: who moves is heard where he stood nearest."""
    line, found = told.judged.line, told.judged.found
    if line is None or found is None or np.isnan(one.offset_s):
        return []
    near = 0.0
    if isinstance(one, material.Moved):
        near = float(one.way_s[(one.at_s >= 0) & (one.at_s <= found.tail_s)].min())
    at = np.linspace(found.head_s + 0.1, found.tail_s - 0.1, 9)
    true = [one.offset_at(t + trimmed_s) - trimmed_s for t in at]
    return [
        (line.offset_at(t) - told.judged.late_s - own - near + moved) * 1e3 for t, own in zip(at, true, strict=True)
    ]


def main(_scale: float = 1.0, media: Path | None = None) -> int:
    """Run and print."""
    with tempfile.TemporaryDirectory() as place:
        folder = media or Path(place) / "media"
        made = make(folder)
        walked = walk_folder(folder, Path(place) / "cache", rate=FrameRate.parse("25"))
    asked = 0 if walked.solution is None else len(walked.solution.questions)
    print(f"\nhard takes as files, {len(made)} of a day: off from the picture, its band; {asked} questions")
    print(f"{'':38}{'worst ms':>10}{'band ms':>10}  rate ppm  as told")
    for told in sorted(walked.pairings, key=lambda one: one.picture):
        file = Path(walked.known.recordings[told.picture].item.files[0].path).name
        sound = Path(walked.known.recordings[told.sound].item.files[0].path).name
        one, moved = made[file]
        name = list(CASES)[list(made).index(file)]
        off, line = _off_ms(told, one, moved, TRIMS.get(name, (0.0, 0.0))[0]), told.judged.line
        figures = f"{'—':>10}{'—':>10}{'—':>10}"
        if off and line is not None:
            band = 1.96e3 * max(line.standard_error_at(t) for t in told.judged.points)
            figures = f"{max(off, key=abs):10.4f}{band:10.4f}{line.ppm - one.ppm:+10.3f}"
        brief = told.verdict.brief
        wrong = "" if file[5:8] == sound[3:6] else f" with {sound}"
        print(f"{name:38}{figures}  {brief}{wrong}", flush=True)
    return 0


if __name__ == "__main__":
    main(media=Path(sys.argv[1]) if len(sys.argv) > 1 else None)
