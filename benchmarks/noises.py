"""What a set sounds like beside the talk: wind, machines, wheels, beeps, music in bars; how often it misleads."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

import material
import numpy as np
from material import WORK_RATE, Pair, Sound

from vesk.core.kinds import MATCHED
from vesk.core.sound.measure import measure
from vesk.simulator import noises
from vesk.simulator.paths import clipped, reverberant, with_noise
from vesk.simulator.world import sample_at

_NEAR_S = 0.02  # within which a place is the right one
_LEAD_S = 5.0
Laid = Callable[[Pair, int], Pair]


def _both_hear(make: Callable[[int, int], Sound], db: float) -> Laid:
    """Lay a noise over both, from a place of its own: up to a metre and a half nearer to one of them."""

    def laid(one: Pair, seed: int) -> Pair:
        later_s = float(np.random.default_rng(seed).uniform(-0.004, 0.004))
        there = make(int(max(one.picture.size, one.sound.size) + 14 * WORK_RATE), seed)
        own = np.arange(one.picture.size) / WORK_RATE - later_s
        others = np.arange(one.sound.size) / (WORK_RATE * (1 + one.ppm * 1e-6)) + one.offset_s
        picture, sound = (sample_at(there, (at + _LEAD_S) * WORK_RATE) for at in (own, others))
        return replace(one, picture=with_noise(one.picture, picture, -db), sound=with_noise(one.sound, sound, -db))

    return laid


def _wheels(db: float) -> Laid:
    def laid(one: Pair, seed: int) -> Pair:
        def loud(count: int, seed: int) -> Sound:
            return noises.how_loud_wheels_are(count, WORK_RATE, seed=seed)

        quiet = replace(one, picture=one.picture * np.float32(1e-6), sound=one.sound * np.float32(1e-6))
        both = _both_hear(loud, 120)(quiet, seed)
        heard = [
            noises.diffuse(each, WORK_RATE, seed=2 * seed + n) for n, each in enumerate((both.picture, both.sound))
        ]
        return replace(one, picture=with_noise(one.picture, heard[0], -db), sound=with_noise(one.sound, heard[1], -db))

    return laid


def _on_the_scratch(make: Callable[[int, int], Sound], db: float, *, clips: bool = False) -> Laid:
    def laid(one: Pair, seed: int) -> Pair:
        picture = with_noise(one.picture, make(one.picture.size, seed), -db)
        return replace(one, picture=clipped(picture, 0.1) if clips else picture)

    return laid


def _gusts(count: int, seed: int) -> Sound:
    rng = np.random.default_rng(seed)
    loud = np.maximum(0, material.hiss(count // 4000 + 2, seed))
    deep = material.hiss(count, seed + 1).cumsum()
    return np.asarray(
        (deep - deep.mean()) * np.interp(np.arange(count) / 4000, np.arange(loud.size), loud) * rng.uniform(1, 2)
    )


def _danced(seed: int, slate_s: float, *, same: bool) -> Pair:
    """Make a take with a slate, then music whose bars repeat; or the pictures of one and the sound of another."""
    offset_s, ppm, heard = -0.5403, 40.0, []
    for number, begins_s in enumerate((6.0, 6.0 if same else 7.3)):
        said = material.talk(60, (seed if same else seed + 500 * number) % 1000)[: 40 * WORK_RATE]
        at = np.arange(said.size) / WORK_RATE
        first = round(begins_s * WORK_RATE)
        bars = noises.bars(said.size - first, WORK_RATE, seed=seed)
        take = said * ((at > 1) & (at < 1 + slate_s))
        take[first:] += bars / bars.std() * 2.5 * said.std()
        heard.append(reverberant(take, WORK_RATE, seed=seed + 50 * number, amount=0.5 - 0.4 * number))
    own = np.arange(heard[1].size) / (WORK_RATE * (1 + ppm * 1e-6)) + offset_s
    sound = sample_at(heard[1], own * WORK_RATE)
    noise = [material.hiss(each.size, seed + n) for n, each in enumerate((heard[0], sound))]
    return Pair(with_noise(heard[0], noise[0], 30), with_noise(sound, noise[1], 30), offset_s, ppm)


def _radio(a_second: float, db: float, *, knocked: bool) -> Laid:
    def laid(one: Pair, seed: int) -> Pair:
        dull = noises.knocks(one.picture.size, WORK_RATE, seed=seed)
        picture = with_noise(one.picture, dull, -10) if knocked else one.picture
        return replace(
            one, picture=picture, sound=noises.with_hits(one.sound, WORK_RATE, seed=seed, a_second=a_second, db=db)
        )

    return laid


TAKES: dict[str, Callable[[int], Pair]] = {
    "a slate of 4 s, then music in bars": lambda seed: _danced(seed, 4, same=True),
    "a slate of 2 s, then music in bars": lambda seed: _danced(seed, 2, same=True),
    "another take to the same music": lambda seed: _danced(seed, 4, same=False),
}
CASES: dict[str, Laid] = {
    "an engine, 20 dB over the talk": _both_hear(lambda n, s: noises.engine(n, WORK_RATE, seed=s), 20),
    "a steady one, strokes alike to 0.2 %": _both_hear(
        lambda n, s: noises.engine(n, WORK_RATE, seed=s, wander=0.002), 20
    ),
    "an engine, 6 dB over": _both_hear(lambda n, s: noises.engine(n, WORK_RATE, seed=s, wander=0.002), 6),
    "wheels on rails, 10 dB over": _wheels(10),
    "wheels on rails, 20 dB over": _wheels(20),
    "music in bars, as loud": _both_hear(lambda n, s: noises.bars(n, WORK_RATE, seed=s), 0),
    "beeps in the scratch, 20 dB over": _on_the_scratch(lambda n, _: noises.beeps(n, WORK_RATE), 20),
    "a radio link hit once a second, 10 dB over": _radio(1, 10, knocked=False),
    "hit three times a second, 20 dB over": _radio(3, 20, knocked=False),
    "hit once a second, 15 dB; a camera knocked": _radio(1, 15, knocked=True),
    "wind on both, 10 dB over": lambda one, seed: replace(
        one,
        picture=with_noise(one.picture, noises.wind(one.picture.size, WORK_RATE, seed=2 * seed), -10),
        sound=with_noise(one.sound, noises.wind(one.sound.size, WORK_RATE, seed=2 * seed + 1), -10),
    ),
    "wind in the scratch, 20 dB over, clipped": _on_the_scratch(_gusts, 20, clips=True),
}


def _one(name: str, seed: int) -> float | None:
    """Measure one: how far off it is in the middle, seconds; None where it is not matched."""
    made = TAKES[name](seed) if name in TAKES else CASES[name](material.pair(40, 300 + seed, snr_db=20), 77 + seed)
    found = measure(material.hear(made.picture), material.hear(made.sound))
    if found.decision != MATCHED or found.line is None:
        return None
    return found.line.offset_at(found.middle_s) - made.offset_at(found.middle_s)


def main(scale: float) -> None:
    """Run and print."""
    count = max(4, int(24 * scale))
    print(f"\n{'what is heard beside the talk':42}{'n':>4}{'matched':>9}{'elsewhere':>11}{'worst of the rest ms':>22}")
    with ProcessPoolExecutor() as pool:
        for name in (*CASES, *TAKES):
            off = [one for one in pool.map(_one, [name] * count, range(count)) if one is not None]
            away = [one for one in off if abs(one) > _NEAR_S]
            near = max((abs(one) for one in off if abs(one) <= _NEAR_S), default=float("nan"))
            print(f"{name:42}{count:4}{len(off):9}{len(away):11}{near * 1e3:22.2f}", flush=True)
