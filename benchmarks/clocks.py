"""Fits of devices' clocks on made days against their truth: bands, rates, jams; and what the Clocks page costs."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from vesk.core.day.solve import solve
from vesk.core.kinds import LTC, PICTURE, SOUND
from vesk.simulator.evidence import MadeDay, MadeDevice

HOUR = 3600.0
DAYS, TAKES = 200, (24, 33)  # 33: what each of twelve devices has on a day of 400 recordings
_JAM = 13.5


def _wandering(ppm: float, swing: float, phase: float, *, jammed: bool) -> Callable[[float], float]:
    """Return a clock's error: a free run, a slow swing of its rate with the temperature, and a jam after lunch."""

    def error(at: float) -> float:
        since = at - (_JAM if jammed and at >= _JAM * HOUR else 7.0) * HOUR
        period = 6 * HOUR
        slow = swing * 1e-6 * period / (2 * np.pi) * (np.cos(phase) - np.cos(2 * np.pi * since / period + phase))
        return float(ppm * 1e-6 * since + slow)

    return error


def run(swing: float, days: int, takes: int) -> None:
    """Solve days of one camera whose rate swings by so many ppm, and print how its clock was found."""
    rng = np.random.default_rng(7)
    inside, tried, invented, found = 0, 0, 0, 0
    rates: list[float] = []
    long: list[float] = []
    between: list[float] = []
    for number in range(days):
        jammed = number % 2 == 1
        ppm = float(rng.uniform(1, 20) * rng.choice([-1, 1]))
        error = _wandering(ppm, swing, float(rng.uniform(0, 2 * np.pi)), jammed=jammed)
        day = MadeDay([MadeDevice("A", PICTURE, error, LTC), MadeDevice("S1", SOUND)], number)
        for at in 8 + 11 * (np.arange(takes) + rng.uniform(0.05, 0.95, takes)) / takes:
            day.take(["A", "S1"], float(at) * HOUR, 40)
        clock = solve(day.day()).clocks["A"]
        breaks = len(clock.stretches) - 1
        if jammed and breaks == 1:
            found += 1
            between.append(clock.stretches[1].since_s - clock.stretches[0].until_s)
        invented += max(0, breaks - jammed)
        rates += [one.rate * 1e6 - ppm for one in clock.stretches if one.until_s - one.since_s > 2 * HOUR]
        long += [one.rate * 1e6 - ppm for one in clock.stretches if one.until_s - one.since_s > 9 * HOUR]
        # On its own line it says how far it is ahead as heard: ears are usual here, and the same all day.
        for at in rng.uniform(8, 19, 20) * HOUR:
            known = clock.at(at + error(at))
            own = clock.stretch_at(at + error(at))
            if known is None or own is None or not own.since_s <= at + error(at) <= own.until_s:
                continue
            tried += 1
            inside += abs(known[0] - error(at)) <= 1.96 * known[1]
    print(
        f"{takes} takes, {swing:3.1f} ppm of swing: in the 95 % band {inside / max(tried, 1):.1%} of {tried} "
        f"times; rate off by {np.sqrt(np.mean(np.square(rates))):.3f} ppm RMS over stretches of two hours and more, "
        f"{np.sqrt(np.mean(np.square(long))) if long else float('nan'):.3f} over the {len(long)} of nine; "
        f"jams found {found} of {days // 2}, invented {invented}; told between {np.median(between) / 60:.0f} min"
    )


def main(scale: float) -> int:
    """Run and print."""
    days = max(20, round(DAYS * scale))
    print(f"\nclocks over {days} days, free runs of 1 to 20 ppm")
    for takes in TAKES:
        for swing in (0.0, 0.5, 2.0):
            run(swing, days, takes)
    return 0
