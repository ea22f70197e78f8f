"""People who speak in turn from places of their own, each heard at a level of its own on the scratch: against truth."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

import material
import numpy as np

from vesk.core.kinds import MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure

CASES: list[tuple[str, float, dict[str, object]]] = [
    ("10 s, two", 1, {"seconds": 10}),
    ("20 s, two", 1, {"seconds": 20}),
    ("60 s, two", 1, {"seconds": 60}),
    ("12 min, two", 0.2, {"seconds": 720}),
    ("20 s, three", 1, {"seconds": 20, "places_s": (0.0, 400e-6, -300e-6)}),
    ("20 s, one", 1, {"seconds": 20, "places_s": (0.0,)}),
    ("30 s, two, a lav lacks one of them", 1, {"seconds": 30, "lacks": (1,)}),
    ("60 s, two, a jump of 1 ms to 1 s", 1, {"seconds": 60, "jumps": "one"}),
    ("the same, 3 m apart", 1, {"seconds": 60, "jumps": "one", "places_s": (0.0, 9e-3)}),
    ("three, up to 4.8 m apart", 1, {"seconds": 60, "jumps": "one", "places_s": (0.0, 3e-3, 14e-3)}),
]


@dataclass
class Told:
    """What a row's cases gave."""

    off_us: list[float] = field(default_factory=list)
    off_held: list[bool] = field(default_factory=list)
    ppm: list[float] = field(default_factory=list)
    ppm_held: list[bool] = field(default_factory=list)
    invented: int = 0
    jumps: int = 0
    exact: int = 0
    inside: int = 0

    def add(self, found: object, truth: material.Conversation) -> None:
        """Compare one measurement with its truth."""
        line = found.line  # type: ignore[attr-defined]
        self.ppm.append(line.ppm - truth.ppm)
        self.ppm_held.append(abs(self.ppm[-1]) <= 1.96 * line.se_ppm)
        for at in (found.head_s, found.middle_s, found.tail_s):  # type: ignore[attr-defined]
            # The line may follow any one of the places: which one is the reference is told, not chosen.
            error = min((line.offset_at(at) - truth.offset_at(at) - place for place in truth.places_s), key=abs)
            self.off_us.append(error * 1e6)
            self.off_held.append(abs(error) <= 1.96 * line.standard_error_at(at))
        self.invented += max(0, len(line.jumps) - len(truth.jumps))
        for at, added in truth.jumps:
            near = [jump for jump in line.jumps if abs(jump.step_s * WORK_RATE + added) < 1 / 3]
            self.jumps += 1
            self.exact += bool(near)
            self.inside += any(jump.low_s - 0.02 <= at <= jump.high_s + 0.02 for jump in near)


def rms(values: list[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values)))) if values else float("nan")


def main(scale: float) -> None:
    """Run and print."""
    print(
        "\npeople from several places           n  matched  offset RMS µs  band  rate RMS ppm  band  jumps: invented,"
        " to the sample, inside   CPU s"
    )
    held: list[bool] = []
    rates: list[bool] = []
    for name, share, case in CASES:
        count = max(3, round(24 * scale * share))
        made = [material.conversation(seed=3000 + n, **_own(case, n)) for n in range(count)]  # type: ignore[arg-type]
        heard = [(material.hear(one.picture), material.hear(one.sound)) for one in made]
        begun = time.process_time()
        found = [measure(picture, sound) for picture, sound in heard]
        cpu = (time.process_time() - begun) / count
        told = Told()
        for one, truth in zip(found, made, strict=True):
            if one.decision == MATCHED and one.line is not None:
                told.add(one, truth)
        held += told.off_held
        rates += told.ppm_held
        jumps = f"{told.invented}, {told.exact} of {told.jumps}, {told.inside}"
        print(
            f"{name:36}{count:4}{len(told.ppm) / count:9.0%}{rms(told.off_us):15.1f}{np.mean(told.off_held):6.0%}"
            f"{rms(told.ppm):15.2f}{np.mean(told.ppm_held):6.0%}{jumps:>40}{cpu:8.2f}"
        )
    print(f"all rows: offset bands hold {np.mean(held):.1%} of {len(held)}, rate bands {np.mean(rates):.1%}")


def _own(case: dict[str, object], number: int) -> dict[str, object]:
    """Give a case with a jump one of its own place and size."""
    if case.get("jumps") != "one":
        return case
    rng = np.random.default_rng([9, number])
    size = int(rng.choice([-1, 1])) * int(np.exp(rng.uniform(np.log(17), np.log(16_000))))
    return {**case, "jumps": [(float(rng.uniform(12, 48)), size)]}
