"""Walls, loudspeakers and halls: sound that comes again, in either recording, louder than what arrives first or not."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from math import ceil

import material
import numpy as np

from vesk.core.kinds import MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.simulator import paths

_EXACT_S = 1e-4
Degrade = Callable[[material.Sound, np.random.Generator], material.Sound]


def _wall(amount: float, direct: float, low_s: float, high_s: float) -> Degrade:
    return lambda sound, rng: paths.echoing(
        sound, WORK_RATE, late_s=float(rng.uniform(low_s, high_s)), amount=amount, direct=direct
    )


def _hall(under_db: float, decay_s: float) -> Degrade:
    return lambda sound, rng: paths.reverberant(
        sound, WORK_RATE, seed=int(rng.integers(1 << 30)), amount=10 ** (under_db / 10), decay_s=decay_s
    )


CASES: dict[str, tuple[float, Degrade, bool]] = {
    "a wall, 10 dB down, 15 to 90 ms": (30, _wall(0.3, 1.0, 0.015, 0.09), False),
    "a wall, as loud": (30, _wall(1.0, 1.0, 0.015, 0.09), False),
    "an echo twice as loud as the direct": (30, _wall(1.0, 0.5, 0.015, 0.09), False),
    "a loudspeaker, 0.1 to 0.45 s late": (30, _wall(1.3, 1.0, 0.1, 0.45), False),
    "takes of 6 s, a wall 3 dB down": (6, _wall(0.7, 1.0, 0.015, 0.09), False),
    "an echo and 20.7 ms lost": (40, _wall(0.8, 0.6, 0.015, 0.09), True),
    "a hall, direct 10 dB under its echoes": (30, _hall(10, 1.5), False),
    "a hall, 18 dB": (30, _hall(18, 1.0), False),
    "a church, 18 dB, 3 s": (30, _hall(18, 3.0), False),
    "a hall, 22 dB": (30, _hall(22, 1.0), False),
    "a hall, 26 dB, 2 s": (30, _hall(26, 2.0), False),
}


def _one(name: str, seed: int) -> tuple[float, bool] | None:
    """Measure one: how far off it is where it is furthest, and whether the bands hold; None where not matched."""
    seconds, degrade, lost = CASES[name]
    jumps = [(18.0, -331)] if lost else None
    made = material.pair(seconds, 5000 + seed, snr_db=20.0, room=0.2, jumps=jumps)
    rng = np.random.default_rng(seed + 77)
    if seed % 2:
        made = replace(made, sound=degrade(made.sound, rng))
    else:
        made = replace(made, picture=degrade(made.picture, rng))
    found = measure(material.hear(made.picture), material.hear(made.sound))
    if found.decision != MATCHED:
        return None
    moments = (found.head_s, found.middle_s, found.tail_s)
    off = {at: abs(found.line.offset_at(at) - made.offset_at(at)) for at in moments}
    return max(off.values()), all(away <= found.line.band_at(at) for at, away in off.items())


def main(scale: float) -> None:
    """Measure all cases, half in the scratch and half in the sound, on every core."""
    print(
        "\nsound that comes again                    n  matched  within 0.1 ms  worst ms  in the band shown", flush=True
    )
    count = max(4, ceil(40 * scale))
    with ProcessPoolExecutor() as cores:
        for name in CASES:
            found = [one for one in cores.map(_one, [name] * count, range(count)) if one is not None]
            exact = sum(off <= _EXACT_S for off, _ in found)
            inside = sum(held for _, held in found)
            worst = max((off for off, _ in found), default=0.0) * 1e3
            print(f"{name:40}{count:4}{len(found):9}{exact:15}{worst:10.2f}{inside:10}", flush=True)
