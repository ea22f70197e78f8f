"""Pairs that share no moment, and must not be matched: other takes, hums, claps, loops, sounds that two takes share."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from math import ceil

import material
import numpy as np
from numpy.typing import NDArray

from vesk.core.kinds import AMBIGUOUS, MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.simulator import paths

Sounds = tuple[NDArray[np.float32], NDArray[np.float32]]
_PLAYED = (3.0, 0.0, -6.0)  # dB over the talk


def other_take(seed: int) -> Sounds:
    count = (10, 30, 60)[seed % 3] * WORK_RATE
    takes = [material.talk(60, 300 + seed % 8, take)[:count] for take in (1, 2 + seed)]
    one, other = (paths.reverberant(take, WORK_RATE, seed=n, amount=0.3) for n, take in enumerate(takes))
    return one, other


def _hum(seed: int) -> Sounds:
    t = np.arange(30 * WORK_RATE) / WORK_RATE
    hum = sum(np.sin(2 * np.pi * 50 * k * t + k) / k for k in range(1, 40)) * 0.05
    one, other = (material.talk(60, 300 + (seed * 2 + n) % 16, seed)[: t.size] * 0.3 + hum for n in (0, 1))
    return np.asarray(one, np.float32), np.asarray(other, np.float32)


def _claps(seed: int) -> Sounds:
    rng = np.random.default_rng(seed)
    count = 30 * WORK_RATE
    at = sorted(rng.uniform(1, 28, 1 + seed % 3))
    made = []
    for take in (0, 1):
        tone = rng.normal(size=count) * 0.001
        sync_points = material.claps_at(count, list(at), [seed * 20 + take * 10 + n for n in range(len(at))])
        made.append(paths.reverberant(np.asarray(sync_points + tone, np.float32), WORK_RATE, seed=take, amount=0.4))
    return made[0], made[1]


def _noise(seed: int) -> Sounds:
    return material.hiss(20 * WORK_RATE, seed * 2), material.hiss(20 * WORK_RATE, seed * 2 + 1)


def _loop(seed: int) -> Sounds:
    bar = material.talk(60, 300 + seed % 16)[: int(2.0 * WORK_RATE)]
    music = np.tile(bar, 12)
    later = music[WORK_RATE : 21 * WORK_RATE]
    return music[: 20 * WORK_RATE], paths.reverberant(later, WORK_RATE, seed=seed, amount=0.3)


def _music(seconds: float, seed: int) -> NDArray[np.float32]:
    """Plucked chords and a drum: never the same bar twice."""
    rng = np.random.default_rng(seed)
    out = np.zeros(int(seconds * WORK_RATE))
    at = 0
    while at < out.size:
        for pitch in rng.choice([110, 131, 147, 165, 196, 220, 262, 294, 330, 392], 3):
            t = np.arange(min(int(rng.uniform(0.3, 0.9) * WORK_RATE), out.size - at)) / WORK_RATE
            tones = sum(np.sin(2 * np.pi * pitch * k * t + rng.uniform(0, 6)) / k for k in range(1, 12))
            out[at : at + t.size] += tones * np.exp(-3 * t)
        at += int(rng.choice([0.25, 0.5]) * WORK_RATE)
        beat = np.arange(max(0, min(1600, out.size - at)))
        out[at : at + beat.size] += rng.normal(size=beat.size) * np.exp(-beat / 300)
    return np.asarray(out / out.std(), np.float32)


def playback(seed: int, over_talk_db: float, *, same: bool) -> Sounds:
    music = _music(40, seed)
    talks = [material.talk(60, seed % 20 + n)[: music.size] for n in ((0, 0) if same else (0, 50))]
    gain = 10 ** (-over_talk_db / 20)
    heard = [
        paths.with_noise(
            paths.reverberant(music + gain * talk / talk.std(), WORK_RATE, seed=seed * 2 + n, amount=amount),
            material.hiss(music.size, seed * 2 + n),
            snr_db,
        )
        for n, (talk, amount, snr_db) in enumerate(zip(talks, (0.5, 0.05), (15.0, 30.0), strict=True))
    ]
    return heard[0], heard[1][WORK_RATE // 2 :]


def _shared(seed: int, sounds: list[NDArray[np.float32]], *, alike: bool) -> Sounds:
    """Two takes of other talk in which the same sounds are heard, bit for bit; at the same pace where `alike`."""
    rng = np.random.default_rng(seed)
    seconds = (20, 30, 60)[seed % 3]
    pace = np.cumsum(rng.uniform(2.5, 4.5, len(sounds)))
    made = []
    for take in (0, 1):
        talk = material.talk(60, 300 + (seed * 2 + take) % 40, seed)[: seconds * WORK_RATE].copy()
        begins = rng.uniform(1.0, 4.0) + (pace if alike else np.cumsum(rng.uniform(2.5, 4.5, len(sounds))))
        for begin, sound in zip(begins, sounds, strict=True):
            at = int(begin * WORK_RATE)
            talk[at : at + sound.size] += sound[: max(0, talk.size - at)]
        made.append(talk if seed % 2 else paths.reverberant(talk, WORK_RATE, seed=seed * 2 + take, amount=0.3))
    return made[0], made[1]


def _line(seed: int) -> Sounds:
    """One line said once, of two to four seconds, played in both takes."""
    rng = np.random.default_rng(seed)
    said = material.talk(60, 500 + seed % 30)[5 * WORK_RATE :][: int(rng.uniform(2.0, 4.0) * WORK_RATE)]
    return _shared(seed, [said * float(rng.choice([0.5, 1.0, 2.0]))], alike=True)


def _effects(seed: int) -> Sounds:
    """Play a telephone or a slam in both takes, from one file: once to three times, at one pace or not."""
    rng = np.random.default_rng(seed)
    t = np.arange(int(rng.uniform(0.2, 1.5) * WORK_RATE)) / WORK_RATE
    ring = np.sign(np.sin(2 * np.pi * 22 * t)) * sum(np.sin(2 * np.pi * hertz * t) for hertz in (440, 1130, 2210))
    slam = rng.normal(size=t.size) * np.exp(-t / rng.uniform(0.03, 0.6))
    effect = np.asarray((ring / 3 if seed % 4 == 0 else slam) * rng.choice([0.1, 0.3, 0.6]), np.float32)
    return _shared(seed, [effect] * int(rng.integers(1, 4)), alike=bool(rng.random() < 0.5))


KINDS: dict[str, tuple[int, Callable[[int], Sounds]]] = {
    "other take of the same lines": (700, other_take),
    "other talk, shared hum": (400, _hum),
    "claps of the same sticks": (500, _claps),
    "noise": (200, _noise),
    "one line played in both": (550, _line),
    "effects played in both": (550, _effects),
    "music that repeats": (100, _loop),
}


def _judged(name: str, seed: int) -> tuple[str, float]:
    """Measure one trap: what was decided, and log10 of how likely that was chance."""
    found = measure(*map(material.hear, KINDS[name][1](seed)))
    return found.decision, found.log10_false_alarm


def _played(over_talk_db: float, seed: int, same: bool) -> str:  # noqa: FBT001 - mapped over processes
    return str(measure(*map(material.hear, playback(seed, over_talk_db, same=same))).decision)


def main(scale: float) -> None:
    """Measure all kinds, on every core; `scale` 1 holds 3 000."""
    print(
        "\ntraps                                 n  matched, which         ambiguous  most certain (log10)", flush=True
    )
    with ProcessPoolExecutor() as cores:
        for name, (most, _) in KINDS.items():
            count = max(5, ceil(most * scale))
            found = list(cores.map(_judged, [name] * count, range(count), chunksize=4))
            wrong = [seed for seed, (decision, _) in enumerate(found) if decision == MATCHED]
            ambiguous = sum(decision == AMBIGUOUS for decision, _ in found)
            which = f"{len(wrong)} {wrong[:4] or ''}"
            print(f"{name:36}{count:4}  {which:20}{ambiguous:12}{min(alarm for _, alarm in found):12.1f}", flush=True)
        print("\nplayback under the talk of two takes  n  matched   (under one take, which is a pair: matched)")
        for over_talk in _PLAYED:
            cases = range(max(4, int(20 * scale)))
            two, one = (
                list(cores.map(_played, [over_talk] * len(cases), cases, [same] * len(cases))) for same in (False, True)
            )
            name = f"music {over_talk:+.0f} dB over talk"
            print(f"{name:36}{len(two):4}{two.count(MATCHED):9}   ({one.count(MATCHED)})", flush=True)
