"""The measuring engine against truth: accuracy, what it finds, what it refuses, coverage, jumps, claps, speed.

Every figure stands beside its bound or the naive way in the same run. CPU seconds, not wall time.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import product

import conversations
import echoes
import jumps
import material
import moving
import noises
import numpy as np
import songs
import traps
from numpy.typing import NDArray
from scipy import fft

from vesk.core.kinds import MATCHED
from vesk.core.picture.closure import find_closure
from vesk.core.sound.coarse import prepare, search
from vesk.core.sound.features import WORK_RATE, onset_features
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import Measurement
from vesk.core.sound.reel import lay, search_reel
from vesk.core.sound.sync_points import find_sync_points
from vesk.simulator import paths
from vesk.simulator.slates import KINDS, slate


def naive(one: material.Pair) -> tuple[float, float]:
    """Return the offset by one plain correlation of whole files, and ppm from heads and tails alone."""

    def offset(p: NDArray[np.float32], s: NDArray[np.float32]) -> float:
        size = fft.next_fast_len(p.size + s.size, real=True)
        curve = fft.irfft(fft.rfft(p, size) * np.conj(fft.rfft(s, size)), size)
        k = int(np.argmax(curve))
        return (k if k < p.size else k - size) / WORK_RATE

    piece = min(one.picture.size, 8 * WORK_RATE)
    start = max(0, int(one.offset_s * WORK_RATE))
    shift = int(one.offset_s * WORK_RATE)
    ends = [
        offset(one.picture[at : at + piece], one.sound[max(0, at - shift) : max(0, at - shift) + piece])
        for at in (start, one.picture.size - piece)
    ]
    span = (one.picture.size - piece - start) / WORK_RATE
    return offset(one.picture, one.sound), -(ends[1] - ends[0]) / max(span, 1.0) * 1e6


@dataclass
class Row:
    """What one case gave."""

    found: Measurement
    truth: material.Pair
    cpu: float

    @property
    def off_s(self) -> float:
        """Error of the offset where the line turns, seconds."""
        line = self.found.line
        return float("nan") if line is None else line.at_middle_s - self.truth.offset_at(line.middle_s)

    def errors(self) -> Iterator[tuple[float, float]]:
        """Yield error and standard error at head, middle and tail, seconds."""
        line = self.found.line
        if line is not None:
            for at in (self.found.head_s + 0.05, self.found.middle_s, self.found.tail_s - 0.05):
                yield line.offset_at(at) - self.truth.offset_at(at), line.standard_error_at(at)


def run(cases: list[dict[str, object]]) -> list[Row]:
    rows = []
    for case in cases:
        one = material.pair(**case)  # type: ignore[arg-type]
        picture, sound = material.hear(one.picture), material.hear(one.sound)
        begun = time.process_time()
        found = measure(picture, sound)
        rows.append(Row(found, one, time.process_time() - begun))
    return rows


def right(row: Row) -> bool:
    return row.found.decision == MATCHED and abs(row.off_s) < 1e-3


def rms(values: list[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values)))) if values else float("nan")


def accuracy(scale: float) -> None:
    print(
        "\noffset and rate, matched pairs        n  found  RMS µs  p95 µs   RMS ppm   naive off µs  naive ppm   CPU s"
    )
    sets: list[tuple[str, dict[str, object]]] = [
        ("60 s, 20 dB, room", {"seconds": 60, "snr_db": 20}),
        ("60 s, 0 dB babble, moving room", {"seconds": 60, "snr_db": 0, "noise": "babble", "moving": True}),
        ("60 s, 5 dB babble, AGC, clip", {"seconds": 60, "snr_db": 5, "noise": "babble", "faults": ("agc", "clip")}),
        ("60 s, 10 dB, AAC 24 kb/s", {"seconds": 60, "snr_db": 10, "noise": "babble", "faults": ("aac",)}),
        ("60 s, 0 dB hiss", {"seconds": 60, "snr_db": 0}),
        ("60 s, 10 dB, telephone band", {"seconds": 60, "snr_db": 10, "faults": ("narrow",)}),
        ("60 s, 300 ppm", {"seconds": 60, "snr_db": 20, "ppm": 300.0}),
        ("60 s, -4 300 ppm", {"seconds": 60, "snr_db": 10, "ppm": -4300.0}),
        ("60 s, 24 run as 25", {"seconds": 60, "snr_db": 10, "ppm": 41_666.7}),
        ("60 s, 44.1 named 48", {"seconds": 60, "snr_db": 10, "ppm": -81_250.0}),
        ("10 s, 10 dB babble", {"seconds": 10, "snr_db": 10, "noise": "babble"}),
        ("10 s, 0 dB babble", {"seconds": 10, "snr_db": 0, "noise": "babble"}),
        ("3 s, 20 dB", {"seconds": 3, "snr_db": 20}),
    ]
    for name, case in sets:
        rows = run([{**case, "seed": seed} for seed in range(max(3, int(12 * scale)))])
        good = [row for row in rows if right(row)]
        off = [row.off_s * 1e6 for row in good]
        rate = [row.found.line.ppm - row.truth.ppm for row in good if row.found.line]
        plain = [naive(row.truth) for row in good[:4]]
        by_peak = rms([(n[0] - r.truth.offset_s) * 1e6 for n, r in zip(plain, good, strict=False)])
        ends = rms([n[1] - r.truth.ppm for n, r in zip(plain, good, strict=False)])
        p95 = float(np.quantile(np.abs(off), 0.95)) if off else float("nan")
        cpu = float(np.median([row.cpu for row in rows]))
        print(
            f"{name:36}{len(rows):4}{len(good) / len(rows):7.0%}{rms(off):8.2f}{p95:8.2f}{rms(rate):10.4f}"
            f"{by_peak:15.0f}{ends:11.1f}{cpu:8.2f}"
        )


def limits(scale: float) -> None:
    print("\nfound at low levels                   n  right  wrong")
    for (seconds, level), noise in product(((60, -15), (60, -20), (10, -10)), ("hiss", "babble")):
        count = max(4, int(20 * scale))
        rows = run([{"seconds": seconds, "snr_db": level, "noise": noise, "seed": 500 + n} for n in range(count)])
        wrong = sum(row.found.decision == MATCHED and not right(row) for row in rows)
        print(f"{f'{seconds} s at {level} dB {noise}':36}{count:4}{sum(map(right, rows)) / count:7.0%}{wrong:7}")


def coverage(scale: float) -> None:
    rng = np.random.default_rng(3)
    cases: list[dict[str, object]] = [
        {
            "seconds": float(rng.choice([8, 15, 30, 60])),
            "snr_db": float(rng.uniform(-5, 25)),
            "seed": 1000 + n,
            "noise": str(rng.choice(["hiss", "babble"])),
            "room": float(rng.uniform(0.1, 1.0)),
            "moving": bool(rng.random() < 0.5),
        }
        for n in range(max(20, int(240 * scale)))
    ]
    rows = [row for row in run(cases) if row.found.decision == MATCHED]
    told = [(abs(error) <= 1.96 * se) for row in rows for error, se in row.errors()]
    rate = [abs(r.found.line.ppm - r.truth.ppm) <= 1.96 * r.found.line.se_ppm for r in rows if r.found.line]
    invented = sum(len(row.found.line.jumps) for row in rows if row.found.line)
    print(
        f"\n95 % bands, {len(rows)} pairs: offset at head, middle, tail {np.mean(told):.1%}; rate {np.mean(rate):.1%}"
    )
    print(f"jumps invented in them: {invented}; wrong places: {sum(not right(row) for row in rows)}")


def claps(scale: float) -> None:
    rng = np.random.default_rng(5)
    count = max(5, int(40 * scale))
    first, off, alone, alone_wrong = 0, [], 0, 0
    for seed in range(count):
        at = int(rng.uniform(1.0, 1.5) * WORK_RATE)
        talk = material.talk(60, seed % 20)[: 20 * WORK_RATE] * 0.5
        talk[: 3 * WORK_RATE] = 0
        heard = talk + material.claps_at(talk.size, [at / WORK_RATE], [seed]) + rng.normal(size=talk.size) * 0.001
        told = find_sync_points(np.asarray(heard, np.float32))
        first += abs(told[0].at_s - at / WORK_RATE) < 0.005
        off.append(min(abs(one.at_s - at / WORK_RATE) for one in told) * 1e3)
        clap = material.claps_at(15 * WORK_RATE, [6.0], [seed])
        room = [paths.reverberant(clap, WORK_RATE, seed=seed * 2 + n, amount=0.4 - 0.3 * n) for n in (0, 1)]
        noisy = [np.asarray(one + rng.normal(size=one.size) * 0.001, np.float32) for one in room]
        found = measure(material.hear(noisy[0]), material.hear(np.roll(noisy[1], -4000)))
        alone += found.line is not None and abs(found.line.offset_s - 0.25) < 1e-3
        alone_wrong += found.line is not None and abs(found.line.offset_s - 0.25) >= 1e-3
    print(f"\nclap before talk: first {first} of {count}; off by {np.median(off):.3f} ms, worst {max(off):.3f}")
    likeliest = [find_sync_points(_no_clap(seed))[0].score for seed in range(count)]
    print(f"talk and knocks without a clap: the likeliest sound reaches a half in {sum(s >= 0.5 for s in likeliest)}")
    seen = {kind: sum(_is_seen(kind, seed) for seed in range(count)) for kind in KINDS}
    print(f"claps seen, the right frame of {count} each: " + ", ".join(f"{kind} {n}" for kind, n in seen.items()))
    print(f"one clap in silence, two rooms: matched {alone} of {count}, wrongly {alone_wrong}")


def _no_clap(seed: int) -> NDArray[np.float32]:
    rng = np.random.default_rng(seed)
    out = material.talk(60, seed % 40)[: 30 * WORK_RATE] * 0.3 + rng.normal(size=30 * WORK_RATE) * 0.001
    t = np.arange(WORK_RATE // 10) / WORK_RATE
    for at in rng.uniform(1, 28, 5):
        knock = np.sin(2 * np.pi * rng.uniform(300, 900) * t) * np.exp(-t / 0.012)
        out[int(at * WORK_RATE) :][: t.size] += 0.3 * knock
    return paths.reverberant(np.asarray(out, np.float32), WORK_RATE, seed=seed, amount=0.3)


def _is_seen(kind: str, seed: int) -> bool:
    frames, closed = slate(kind, 100 + seed)
    found = find_closure(frames)
    return found is not None and abs(found.frame - closed) <= (1 if kind == "blurred" else 0)


def timed(work: Callable[[], object]) -> float:
    begun = time.process_time()
    work()
    return time.process_time() - begun


def speed() -> None:
    one = material.pair(1800, 7, snr_db=15)
    hour_p = np.tile(one.picture, 2)
    touch = timed(hour_p.sum)
    features = timed(lambda: onset_features(hour_p))
    print(f"\nfeatures of one hour {features:.2f} CPU s (touching every sample: {touch:.2f})")
    picture, sound = material.hear(one.picture), material.hear(one.sound)
    found = measure(picture, sound)
    cpu = timed(lambda: measure(picture, sound))
    plain = timed(lambda: naive(one))
    print(f"30 min against 30 min, features kept: {cpu:.2f} CPU s, {found.decision}; one plain correlation {plain:.2f}")
    eight = np.concatenate([picture.features] * 16)
    clip = onset_features(one.sound[600 * WORK_RATE : 660 * WORK_RATE])
    begun = time.process_time()
    kept = prepare(eight)
    once = time.process_time() - begun
    again = timed(lambda: search(eight, clip, prepared=kept))
    print(f"1 min against 8 h, coarse, features kept: {again:.2f} CPU s, and {once:.2f} once to prepare the 8 h")
    clips = [picture.features[n * 900 : n * 900 + 1500] for n in range(20)]
    files = [sound.features[n * 3000 : n * 3000 + 30_000] for n in range(8)]
    ready = [prepare(one) for one in files]
    many = timed(lambda: [search(a, b, prepared=k) for a in clips for b, k in zip(files, ready, strict=True)])
    print(f"15 s clips against 5 min files, coarse: {many / 160 * 1000:.1f} CPU ms a pair")
    laid = lay(files)
    many = timed(lambda: [search_reel(laid, one, is_picture=True, most=5) for one in clips])
    print(f"the same, files laid together: {many / 160 * 1000:.1f} CPU ms a pair")
    for seconds in (60, 20):
        talks = [[material.talk(60, first + n)[: seconds * WORK_RATE] for n in range(4)] for first in (300, 340)]
        pairs = [
            [material.hear(paths.reverberant(one, WORK_RATE, seed=n, amount=0.3)) for n, one in enumerate(two)]
            for two in zip(*talks, strict=True)
        ]
        refusals = timed(lambda pairs=pairs: [measure(*two) for two in pairs])
        print(f"a refusal by sound, {seconds} s against {seconds} s: {refusals / 4:.2f} CPU s")


def main(scale: float) -> int:
    """Run all; `scale` 1 takes some hours on two cores."""
    accuracy(scale)
    limits(scale)
    coverage(scale)
    jumps.main(scale)
    conversations.main(scale)
    moving.main(scale)
    echoes.main(scale)
    traps.main(scale)
    songs.main(scale)
    noises.main(scale)
    claps(scale)
    speed()
    return 0
