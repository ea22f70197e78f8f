"""Talkers who walk, microphones that are carried, clocks that wander inside a take: against truth."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

import material
import numpy as np
from numpy.typing import NDArray

from vesk.core.kinds import MATCHED
from vesk.core.sound.measure import measure

Curve = Callable[[NDArray[np.float64]], NDArray[np.float64]]


def _between(*points: tuple[float, float]) -> Curve:
    at, value = zip(*points, strict=True)
    return lambda t: np.interp(t, at, value)


def _carried(t: NDArray[np.float64]) -> NDArray[np.float64]:
    return 1.5 + 0.15 * np.sin(2 * np.pi * t / 7.3) + 0.08 * np.sin(2 * np.pi * t / 2.9 + 1)


def swing(ppm: float, period_s: float) -> Curve:
    return lambda t: ppm * np.sin(2 * np.pi * t / period_s + 0.7)


# Name, seconds, what moves, share of the cases.
WALKS: list[tuple[str, float, Curve]] = [
    ("1 to 8 m within 7 s, 60 s", 60, _between((20, 1), (27, 8))),
    ("1 to 8 m over 40 s, 60 s", 60, _between((10, 1), (50, 8))),
    ("1 to 8 m and back, 90 s", 90, _between((20, 1), (27, 8), (55, 8), (62, 1))),
    ("to and fro all the time, 1 to 4 m, 60 s", 60, lambda t: 2.5 - 1.5 * np.cos(2 * np.pi * t / 20)),
    ("a camera carried about 1.5 m, 60 s", 60, _carried),
    ("three places, 1, 2.5, 1.6 m, 45 s", 45, _between((14, 1), (16, 2.5), (30, 2.5), (31, 1.6))),
    ("leans back by 20 cm, 30 s", 30, _between((12, 1), (13, 1.2))),
    ("stands at 2 m, 60 s", 60, _between((0, 2), (1, 2))),
]
TURNS: list[tuple[str, float, dict[str, object]]] = [
    ("near and far, 1 and 4.1 m", 60, {"places_s": (0.0, 9e-3)}),
    ("three, 1, 2 and 5.8 m", 60, {"places_s": (0.0, 3e-3, 14e-3)}),
]
CLOCKS: list[tuple[str, float, Curve]] = [
    ("swings by 3 ppm in 8 min, 10 min", 600, swing(3, 480)),
    ("swings by 1 ppm in 20 min, 20 min", 1200, swing(1, 1200)),
    ("warms up: 6 ppm to 0 within 5 min, 12 min", 720, lambda t: 6 * np.exp(-np.maximum(t, 0) / 300)),
    ("swings by 2 ppm in 40 s, 60 s", 60, swing(2, 40)),
    ("steady, 10 min", 600, np.zeros_like),
    ("steady, 60 s", 60, np.zeros_like),
]


@dataclass
class Told:
    """What a row's cases gave."""

    matched: int = 0
    off_ms: list[float] = field(default_factory=list)
    held: list[bool] = field(default_factory=list)
    ppm: list[float] = field(default_factory=list)
    ppm_held: list[bool] = field(default_factory=list)
    jumps: int = 0
    said: list[str] = field(default_factory=list)
    cpu: list[float] = field(default_factory=list)


def _run(seconds: float, count: int, **case: Curve) -> Told:
    told = Told()
    for seed in range(count):
        one = material.moved(seconds, 5000 + seed, **case)  # type: ignore[arg-type]
        picture, sound = material.hear(one.picture), material.hear(one.sound)
        begun = time.process_time()
        found = measure(picture, sound)
        told.cpu.append(time.process_time() - begun)
        if found.decision != MATCHED or found.line is None:
            told.said.append(found.reason[:60])
            continue
        line = found.line
        told.matched += 1
        told.jumps += len(line.jumps)
        nearest = float(one.way_s[(one.at_s >= 0) & (one.at_s <= seconds)].min())
        for at in np.linspace(found.head_s + 0.1, found.tail_s - 0.1, 9):
            off = line.offset_at(float(at)) - one.offset_at(float(at)) - nearest
            told.off_ms.append(off * 1e3)
            told.held.append(abs(off) <= 1.96 * line.standard_error_at(float(at)))
        told.ppm.append(line.ppm - one.ppm)
        told.ppm_held.append(abs(told.ppm[-1]) <= 1.96 * line.se_ppm)
    return told


def _turns(scale: float) -> None:
    """People near and far who speak in turn, each with a microphone of their own: the near one sets the line."""
    for name, seconds, case in TURNS:
        count = max(3, round(12 * scale))
        off, invented = [], 0
        for seed in range(count):
            one = material.conversation(seconds, 6000 + seed, **case)  # type: ignore[arg-type]
            found = measure(material.hear(one.picture), material.hear(one.sound))
            if found.line is not None and found.decision == MATCHED:
                invented += len(found.line.jumps)
                off += [(found.line.offset_at(at) - one.offset_at(at)) * 1e3 for at in (found.head_s, found.tail_s)]
        print(
            f"{name:43}{count:3}{len(off) // 2:8}{invented:6}{np.sqrt(np.mean(np.square(off))):11.4f}"
            f"{np.abs(off).max():9.4f}"
        )


def main(scale: float) -> None:
    """Run and print."""
    print("\noff: from the clocks' own offset, heard from where the talker stood nearest; jumps: all are invented")
    for title, rows, key, most in (("who moves", WALKS, "metres", 12), ("clocks", CLOCKS, "rate_ppm", 8)):
        print(f"{title:44} n matched jumps  off: RMS, worst ms  in band   rate: RMS ppm, in band   CPU s")
        for name, seconds, curve in rows:
            count = max(3, round(most * scale * min(1.0, 300 / seconds)))
            told = _run(seconds, count, **{key: curve})
            off = np.array(told.off_ms or [np.nan])
            print(
                f"{name:43}{count:3}{told.matched:8}{told.jumps:6}{np.sqrt((off**2).mean()):11.4f}"
                f"{np.abs(off).max():9.4f}{np.mean(told.held or [0]):9.0%}"
                f"{np.sqrt(np.mean(np.square(told.ppm or [np.nan]))):12.3f}{np.mean(told.ppm_held or [0]):9.0%}"
                f"{np.median(told.cpu):9.2f}  {'; '.join(sorted(set(told.said)))}",
                flush=True,
            )
    _turns(scale)
