"""Takes of one song: which of them a camera's file is, told by what each has beyond the song."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from math import ceil

import material
import numpy as np

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.contrast import Laid, excludes, lay
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.simulator import paths

_TAKES, _SECONDS, _SONG_S = 10, 24, 14
_SLATES_S = (4.0, 2.0, 1.0)  # of what is said before the song, heard by both
_NOISES_DB = (20.0, 6.0, -3.0)  # the camera's talk over its hiss


def _day(seed: int) -> tuple[list[material.Sound], list[float]]:
    """Return what happens in each take, and when the song begins in it, seconds."""
    rng = np.random.default_rng(seed)
    song = 2.5 * material.talk(_SONG_S, 40_000 + seed)
    takes, begins = [], []
    for n in range(_TAKES):
        out = np.zeros(_SECONDS * WORK_RATE, np.float32)
        slate = material.talk(8, 50_000 + 100 * seed + n)[: int(max(_SLATES_S) * WORK_RATE)]
        out[WORK_RATE : WORK_RATE + slate.size] += slate
        begins.append(float(rng.uniform(5.5, 8.0)))
        at = int(begins[-1] * WORK_RATE)
        out[at : at + song.size] += song
        takes.append(out)
    return takes, begins


def _stands(own: Hearing, places: dict[int, Laid]) -> list[int]:
    standing: list[int] = []
    for n, place in places.items():
        if not any(excludes(own, places[old], place) for old in standing):
            standing = [old for old in standing if not excludes(own, place, places[old])] + [n]
    return standing


def _case(asked: tuple[int, float, float]) -> tuple[int, int, int, int]:
    """Return of a day: takes told, takes excluded, those that another won where their own was missing; and takes."""
    seed, slate_s, over_db = asked
    takes, begins = _day(seed)
    told = lost = won = 0
    hisses = [np.float32(0.003) * material.hiss(one.size, 900 + 31 * seed + n) for n, one in enumerate(takes)]
    sounds = [material.hear(one + hiss) for one, hiss in zip(takes, hisses, strict=True)]
    for n, take in enumerate(takes):
        since = int((1.0 + max(_SLATES_S) - slate_s) * WORK_RATE)  # the camera rolls while the slate is being said
        heard = paths.reverberant(take, WORK_RATE, seed=seed + n, amount=0.3)[since:]
        level = float(np.sqrt(np.mean(heard[: int(slate_s * WORK_RATE)] ** 2)))
        own = material.hear(
            heard + np.float32(level * 10 ** (-over_db / 20)) * material.hiss(heard.size, 77 * seed + n)
        )
        late = since / WORK_RATE
        places = {
            m: lay(own, sound, Candidate(begins[n] - begins[m] - late, 0.0, 0.0)) for m, sound in enumerate(sounds)
        }
        standing = _stands(own, places)
        told += standing == [n]
        lost += n not in standing
        won += len(_stands(own, {m: place for m, place in places.items() if m != n})) == 1
    return told, lost, won, len(takes)


def main(scale: float = 1.0) -> None:
    days = ceil(6 * scale)
    print("\ntakes of one song, ten a day, the song 8 dB over who speaks: told by what was said before it")
    print(f"{'slate heard':>12} {'over hiss':>10} {'takes':>6} {'told':>5} {'lost':>5}  another wins, its own missing")
    with ProcessPoolExecutor(2) as pool:
        for slate_s in _SLATES_S:
            for over_db in _NOISES_DB:
                found = list(pool.map(_case, [(seed, slate_s, over_db) for seed in range(days)]))
                told, lost, won, takes = (sum(column) for column in zip(*found, strict=True))
                print(f"{slate_s:10.1f} s {over_db:7.0f} dB {takes:6} {told:5} {lost:5}  {won}")


if __name__ == "__main__":
    main()
