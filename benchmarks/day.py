"""The day solved as a whole, on made evidence of hard days against its truth: places, decisions, CPU seconds.

Sounds and pictures are not made here: what they would say of a day is, with the faults that days have.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import day_files
import numpy as np
from numpy.typing import NDArray

from vesk.core.day.day import Day
from vesk.core.day.lateness import weigh_lateness
from vesk.core.day.solution import Solution
from vesk.core.day.solve import solve
from vesk.core.kinds import LTC, PICTURE, SOUND, Asked, Discord, Witness
from vesk.core.sound.coarse import search
from vesk.core.sound.features import BANDS, FEATURE_RATE
from vesk.core.sound.reel import lay, search_reel
from vesk.simulator.ears import five_claps
from vesk.simulator.evidence import MadeDay, MadeDevice

HOUR, FRAME = 3600.0, 0.04
SEEDS = 20
S1 = MadeDevice("S1", SOUND)


@dataclass(frozen=True, slots=True)
class Hard:
    """A hard day: its devices, takes, what is wrong, and which contradictions and decisions are right."""

    name: str
    devices: tuple[MadeDevice, ...]
    takes: int = 8
    clap: bool = True
    spoil: Callable[[MadeDay, list[list[str]]], Callable[[Day], Day]] | None = None
    contradictions: int = 0


def camera(tag: str, error: Callable[[float], float] | None = lambda _at: 0.0, **more: object) -> MadeDevice:
    """Make a camera whose labels keep step with its frames."""
    return MadeDevice(tag, PICTURE, error, LTC, **more)  # type: ignore[arg-type]


def _mute_clip(day: MadeDay, _keys: list[list[str]]) -> Callable[[Day], Day]:
    key = day.roll("A", 10.3 * HOUR, 20)
    day.roll("S1", 10.3 * HOUR - 3, 30)
    return lambda made: replace(made, matches=tuple(one for one in made.matches if one.picture != key))


def _ring_tone(day: MadeDay, keys: list[list[str]]) -> Callable[[Day], Day]:
    day.mistake(keys[3][0], keys[3][-1], 2.7)
    return lambda made: made


def _typed_wrong(_day: MadeDay, keys: list[list[str]]) -> Callable[[Day], Day]:
    wrong = keys[5][0]
    return lambda made: replace(
        made,
        recordings=tuple(
            replace(one, start=one.start + 60) if one.key == wrong and one.start is not None else one
            for one in made.recordings
        ),
    )


def _left_open(_day: MadeDay, keys: list[list[str]]) -> Callable[[Day], Day]:
    shared = {(keys[2][0], keys[2][-1]), (keys[6][0], keys[6][-1])}
    return lambda made: replace(
        made, matches=tuple(replace(one, sure=(one.picture, one.sound) not in shared) for one in made.matches)
    )


A = camera("A")
DAYS = (
    Hard("a clean day", (A, camera("B"), S1)),
    Hard("drift between two jams", (camera("A", lambda at: 3e-6 * (at - (7 if at < 13 * HOUR else 13) * HOUR)), S1)),
    Hard("one an hour off, one a day", (camera("A", lambda _at: 3600.0), camera("B", lambda _at: 86_400.2), S1)),
    Hard("a power cycle: two hours off after it", (camera("A", lambda at: 0.0 if at < 12 * HOUR else 7200.4), S1)),
    Hard("labels rounded to frames out of step", (MadeDevice("A", PICTURE), MadeDevice("B", PICTURE), S1)),
    Hard("a camera's sound a frame early", (A, camera("C", late_s=-FRAME), S1), contradictions=1),
    Hard("another's two frames late, no clock", (A, camera("E", None, late_s=2 * FRAME), S1), contradictions=1),
    Hard("a microphone at 25 m", (A, camera("B", late_s=25 / 343), S1), contradictions=1),
    Hard("two recorders, one drifts", (A, camera("B"), S1, MadeDevice("S2", SOUND, lambda at: 9e-6 * at))),
    Hard("a sound that two takes share", (A, S1), spoil=_ring_tone, contradictions=1),
    Hard("one start typed a minute off", (A, S1), spoil=_typed_wrong, contradictions=1),
    Hard("two takes left open by sound", (A, S1), spoil=_left_open),
    Hard("a mute camera between takes", (A, S1), spoil=_mute_clip),
    Hard("a silent camera that saw claps", (A, camera("D", lambda _at: 0.3, mute=True), S1)),
    Hard("the same, labels out of step", (A, MadeDevice("D", PICTURE, lambda _at: 0.3, mute=True), S1)),
    Hard("nothing has timecode", (camera("A", None), MadeDevice("S1", SOUND, None))),
)


def make(hard: Hard, seed: int) -> tuple[MadeDay, Day]:
    """Make a day of takes from nine to six, and what is wrong with it."""
    day = MadeDay(hard.devices, seed)
    tags = [one.tag for one in hard.devices]
    keys = [day.take(tags, float(at) * HOUR, 40, clap=hard.clap) for at in np.linspace(9, 18, hard.takes)]
    spoil = hard.spoil(day, keys) if hard.spoil else lambda made: made
    return day, spoil(day.day())


def off(day: MadeDay, solution: Solution, by: Sequence[Witness]) -> list[tuple[float, float]]:
    """Return how far places are from where the picture wants them, and their bands: seconds."""
    return [
        (place.offset_s - day.places[pair], 1.96 * place.se_s)
        for pair, place in solution.places.items()
        if place.by in by and (place.contradiction is None or place.contradiction.about == Discord.LATENESS)
    ]


def _ears(cameras: int) -> None:
    print(f"\na camera's internal delay from five claps, {cameras} of each; frames")
    for whole in (True, False):
        away, inside = [], 0
        for seed in range(cameras):
            made = five_claps(seed, whole=whole, frame_s=FRAME)
            found = weigh_lateness(0.0, said=False, frame_s=FRAME, tolerance_s=FRAME / 4, claps=made.claps)
            away.append((found.best_s - made.late_s) / FRAME)
            inside += found.low_s <= made.late_s <= found.high_s
        off = np.abs(away)
        print(f"{'whole frames' if whole else 'anything':14} RMS {np.sqrt(np.mean(off**2)):.2f}, within a fifth "
              f"{np.mean(off < 1 / 5):.0%}, in the band {inside / cameras:.1%}")  # fmt: skip


def main(scale: float) -> int:
    """Run and print."""
    seeds = max(3, round(SEEDS * scale))
    print(f"\nhard days, {seeds} of each; off: from where the picture wants the sound, those that hold by themselves")
    print(f"{'':40}  places  off: median, worst ms   by clock or clap: n, worst ms, in band   named  decisions")
    for hard in DAYS:
        by_sound, placed, named, asked = [], [], 0, []
        for seed in range(seeds):
            day, evidence = make(hard, seed)
            solution = solve(evidence)
            by_sound += [abs(one) for one, _ in off(day, solution, (Witness.SOUND,))]
            placed += off(day, solution, (Witness.TIMECODE, Witness.SYNC_POINT))
            named += len(solution.contradictions) == hard.contradictions
            asked.append(len(solution.questions))
        sound = f"{np.median(by_sound) * 1e3:10.2f}{max(by_sound) * 1e3:8.2f}" if by_sound else f"{'':18}"
        clock = ""
        if placed:
            inside = sum(abs(one) <= band for one, band in placed)
            clock = f"{len(placed):6}{max(abs(one) for one, _ in placed) * 1e3:10.2f}{inside / len(placed):10.0%}"
        print(f"{hard.name:40}{len(by_sound):8}{sound}{clock:42}{named / seeds:9.0%}{np.mean(asked):11.1f}")
    _ears(round(400 * scale))
    _large()
    _by_sound_alone(max(12, round(120 * scale)))
    return day_files.main()


def _by_sound_alone(takes: int) -> None:
    """Search takes of a minute among forty files of nine hours, all features stored: what the search alone costs."""
    rng = np.random.default_rng(4)

    def onsets(seconds: float) -> NDArray[np.float16]:
        """Return features that look like a conversation's: bands that rise together now and then."""
        rows = round(seconds * FEATURE_RATE)
        shared = np.where(rng.random((rows, 1)) < 0.05, rng.exponential(3.0, (rows, 1)), 0.0)
        return np.asarray(shared * rng.random((1, BANDS)) + rng.normal(0, 0.7, (rows, BANDS)), np.float16)

    files = [onsets(9 * 3600 / 40) for _ in range(40)]
    begun = time.process_time()
    reel = lay(files)
    laid = time.process_time() - begun
    right, spent, pairs = 0, 0.0, 0.0
    for number in range(takes):
        file, at = number % 40, int(rng.integers(0, files[0].shape[0] - 60 * FEATURE_RATE))
        own = files[file][at : at + 60 * round(FEATURE_RATE)]
        clip = np.asarray(own + rng.normal(0, 1.5, own.shape), np.float16)
        begun = time.process_time()
        found = search_reel(reel, clip, is_picture=True, most=6)
        spent += time.process_time() - begun
        right += bool(found) and found[0][0] == file and abs(found[0][1].offset_s + at / FEATURE_RATE) < 0.1
        if number < 2:  # the way without: each file by itself, as a measure of the machine
            begun = time.process_time()
            for one in files:
                search(clip, one, most=1)
            pairs += (time.process_time() - begun) / 2
    print(
        f"\n{takes} takes of 1 min among 40 files of 9 h by sound alone, features stored: {right} found first; "
        f"{laid:.1f} CPU s to lay them together, {spent:.1f} to search ({spent / takes:.2f} a take; "
        f"file by file {pairs:.2f}); for 120 takes {laid + 120 * spent / takes:.0f} CPU s",
        flush=True,
    )


def _large() -> None:
    """Solve a clean day of 390 recordings: decisions, and what solving it costs."""

    def jammed(ppm: float) -> Callable[[float], float]:
        return lambda at: ppm * 1e-6 * (at - (7 if at < 13.5 * HOUR else 13.5) * HOUR)

    devices = (MadeDevice("A", PICTURE, jammed(3)), MadeDevice("B", PICTURE, jammed(5)), S1)
    day = MadeDay(devices)
    for at in np.linspace(7.2, 19, 130):
        day.take(["A", "B", "S1"], float(at) * HOUR, 60)
    evidence = day.day()
    begun = time.process_time()
    solution = solve(evidence)
    spent = time.process_time() - begun
    confirmed = replace(evidence, seen=(replace(evidence.seen[0], likely=0.98), *evidence.seen[1:]))
    begun = time.process_time()
    solve(confirmed)
    again = time.process_time() - begun
    takes = sum(len(one.pairings) for one in solution.questions)
    clocks = [one for one in solution.questions if one.asked == Asked.CLOCK]
    print(
        f"\n390 recordings, two cameras that drift 3 and 5 ppm between jams at 7:00 and 13:30: "
        f"{len(solution.questions)} decisions ({len(clocks)} of them one answer for a device) "
        f"for {takes} takes out of tolerance\n"
        f"solved in {spent:.2f} CPU s, again after one clap was confirmed in {again:.2f}"
    )
