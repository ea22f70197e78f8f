"""Jumps in every place and of every kind: lost, repeated, silence put in, gaps; near the ends, in pauses, in hours.

Sizes are of the sound's samples; a jump counts as right when its size is exact to a sample at 48 kHz.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import material
import numpy as np
from material import Pair

from vesk.core.day.evidence import match_of
from vesk.core.day.whose_step import steps_of_scratch
from vesk.core.kinds import MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import Line

Edit = tuple[float, str, int]  # picture time, what befell the sound, samples

_EXACT_S = 1 / 48_000
_GAINED = {"repeated": "twice", "silence": "silence"}
_CLEAR_S = 0.02  # sound this near a jump belongs to either side


def edited(one: Pair, edits: list[Edit]) -> Pair:
    """Let samples be lost, repeated, or put in as silence; or gone silent or stuttered in place, which moves nothing.

    Parameters
    ----------
    one : Pair
        Without jumps.
    edits : list of (float, str, int)
    """
    pieces, start, jumps = [], 0, []
    for at, kind, count in sorted(edits):
        where = int((at - one.offset_s) * (1 + one.ppm * 1e-6) * WORK_RATE)
        pieces.append(one.sound[start:where])
        last = one.sound[where - count : where]
        added = {"lost": None, "repeated": last, "silence": last * 0, "gap": last * 0, "stutter": last}[kind]
        if added is not None:
            pieces.append(added)
        start = where if kind in ("repeated", "silence") else where + count
        if kind in ("lost", "repeated", "silence"):
            jumps.append((at, -count if kind == "lost" else count))
    return replace(one, sound=np.concatenate([*pieces, one.sound[start:]]), jumps=jumps)


def of_scratch(one: Pair, edits: list[Edit]) -> Pair:
    """Let the same befall a pair's scratch: where its sound belongs stays as it is.

    Parameters
    ----------
    one : Pair
    edits : list of (float, str, int)
    """
    turned = replace(one, sound=one.picture, offset_s=0.0, ppm=0.0)
    return replace(one, picture=edited(turned, edits).sound[: one.picture.size])


def _size(rng: np.random.Generator, low: float = 17, high: float = 16_000) -> int:
    return int(np.exp(rng.uniform(np.log(low), np.log(high))))


def _way(rng: np.random.Generator) -> str:
    return str(rng.choice(["lost", "repeated"]))


def _one(seconds: float, rng: np.random.Generator) -> list[Edit]:
    return [(float(rng.uniform(0.2, 0.8)) * seconds, _way(rng), _size(rng))]


def _end(seconds: float, rng: np.random.Generator) -> list[Edit]:
    near = float(rng.uniform(1.5, 4))
    return [(near if rng.random() < 0.5 else seconds - near, _way(rng), _size(rng, 48))]


def _pause(seconds: float, rng: np.random.Generator) -> list[Edit]:
    return [(float(rng.uniform(0.25, 0.75)) * seconds, _way(rng), _size(rng, 240))]


def _three(seconds: float, rng: np.random.Generator) -> list[Edit]:
    return [(seconds * (share + float(rng.uniform(-0.08, 0.08))), _way(rng), _size(rng)) for share in (0.25, 0.5, 0.75)]


def _buffers(seconds: float, rng: np.random.Generator) -> list[Edit]:
    least, most = {60: (5, 10), 720: (40, 80)}.get(int(seconds), (300, 600))
    at, out, count = 0.0, [], int(rng.choice([85, 160, 341, 683]))
    while (at := at + float(rng.uniform(least, most))) < seconds - least:
        out.append((at, "lost", count))
    return out


def _cancels(seconds: float, rng: np.random.Generator) -> list[Edit]:
    at, count = float(rng.uniform(0.2, 0.5)) * seconds, _size(rng, 48)
    return [(at, "lost", count), (at + float(rng.uniform(6, 15)), "repeated", count)]


def _silence(seconds: float, rng: np.random.Generator) -> list[Edit]:
    return [(float(rng.uniform(0.2, 0.8)) * seconds, "silence", _size(rng, 48))]


def _none(seconds: float, rng: np.random.Generator) -> list[Edit]:
    kinds = ["gap", "stutter"]
    return [(seconds * share, str(rng.choice(kinds)), _size(rng, 160, 16_000)) for share in (0.2, 0.45, 0.7)]


CASES: dict[str, tuple[float, Callable[[float, np.random.Generator], list[Edit]]]] = {
    "one, 10 s": (10, _one),
    "one, 20 s": (20, _one),
    "one, 60 s": (60, _one),
    "one, 12 min": (720, _one),
    "one, 2 h": (7200, _one),
    "1.5 to 4 s from an end, 60 s": (60, _end),
    "1.5 to 4 s from an end, 12 min": (720, _end),
    "in a pause of 1.5 s, 60 s": (60, _pause),
    "three, 60 s": (60, _three),
    "a buffer every 5 to 10 s, 60 s": (60, _buffers),
    "a buffer every 40 to 80 s, 12 min": (720, _buffers),
    "a buffer every 5 to 10 min, 2 h": (7200, _buffers),
    "lost, and as much repeated, 60 s": (60, _cancels),
    "silence put in, 60 s": (60, _silence),
    "gaps and stutters, no jump, 60 s": (60, _none),
}


def edits_of(name: str, seed: int) -> list[Edit]:
    """Return what befalls the sound of a case.

    Parameters
    ----------
    name : str
        One of `CASES`.
    seed : int
    """
    seconds, edit = CASES[name]
    return edit(seconds, np.random.default_rng(seed + 4_000))


def made(name: str, seed: int, faults: tuple[str, ...] = (), ppm: float | None = None) -> Pair:
    """Make a case.

    Parameters
    ----------
    name : str
        One of `CASES`.
    seed : int
    faults : tuple of str
        The scratch's, as `material.pair` takes them.
    ppm : float, optional
        Of the sound's clock; any where left out.
    """
    seconds, edit = CASES[name]
    edits = edits_of(name, seed)
    pauses = tuple((at - 0.75, at + 0.75) for at, *_ in edits) if edit is _pause else ()
    return edited(material.pair(seconds, seed, snr_db=15, ppm=ppm, pauses=pauses, faults=faults), edits)


@dataclass
class Told:
    """What a row's cases gave."""

    matched: int = 0
    jumps: int = 0
    exact: int = 0
    inside: int = 0
    invented: int = 0
    seen: int = 0
    mistaken: int = 0
    unsure: int = 0
    widths_s: list[float] = field(default_factory=list)
    off_us: list[float] = field(default_factory=list)
    held: list[bool] = field(default_factory=list)
    ppm: list[float] = field(default_factory=list)
    ppm_held: list[bool] = field(default_factory=list)
    cpu: list[float] = field(default_factory=list)

    def add(self, line: Line, one: Pair, head_s: float, tail_s: float, kinds: list[str]) -> None:
        """Compare a line with the truth between head and tail, picture seconds; what befell the sound at each jump."""
        self.matched += 1
        right = 0
        for (at, added), kind in zip(one.jumps, kinds, strict=True):
            near = [jump for jump in line.jumps if abs(jump.step_s + added / WORK_RATE) < _EXACT_S]
            near = [jump for jump in near if abs(jump.at_s - at) < 2 or jump.low_s <= at <= jump.high_s]
            right += bool(near)
            self.inside += any(jump.low_s - 0.001 <= at <= jump.high_s + 0.001 for jump in near)
            self.widths_s += [jump.high_s - jump.low_s for jump in near[:1]]
            self.seen += any(jump.gained == _GAINED.get(kind, "") for jump in near)
            self.mistaken += any(jump.gained not in {None, _GAINED.get(kind)} for jump in near)
        self.jumps += len(one.jumps)
        self.exact += right
        self.invented += max(0, len(line.jumps) - right)
        self.unsure += len(line.unsure)
        for at in np.linspace(head_s + 0.1, tail_s - 0.1, 7):
            if all(abs(at - jump) > _CLEAR_S for jump, _ in one.jumps):
                off = line.offset_at(float(at)) - one.offset_at(float(at))
                self.off_us.append(off * 1e6)
                self.held.append(abs(off) <= 1.96 * line.standard_error_at(float(at)))
        self.ppm.append(line.ppm - one.ppm)
        self.ppm_held.append(abs(self.ppm[-1]) <= 1.96 * line.se_ppm)


def run(name: str, count: int, faults: tuple[str, ...], first: int = 0) -> Told:
    """Measure so many of a case.

    Parameters
    ----------
    name : str
    count : int
    faults : tuple of str
    first : int
        Its first seed.
    """
    told = Told()
    for seed in range(first, first + count):
        one = made(name, seed, faults)
        picture, sound = material.hear(one.picture), material.hear(one.sound)
        begun = time.process_time()
        found = measure(picture, sound)
        told.cpu.append(time.process_time() - begun)
        if found.decision == MATCHED and found.line is not None:
            kinds = [kind for _, kind, _ in sorted(edits_of(name, seed)) if kind not in {"gap", "stutter"}]
            told.add(found.line, one, found.head_s, found.tail_s, kinds)
    return told


_WHOSE_S, _BESIDE_DB = 60.0, (15.0, 0.0, -6.0, -12.0)


def whose(seed: int, beside_db: float, *, scratch: bool) -> tuple[bool, bool | None]:
    """Let two cameras hear one recorder; samples are lost or doubled by the first one's scratch, or by the recorder.

    Parameters
    ----------
    seed : int
    beside_db : float
        How far the talk stands over the noise of the second camera.
    scratch : bool
        Whose.

    Returns
    -------
    (bool, bool or None)
        Whether the step was found; whose it is said to be: the scratch's, else (or where nobody says) the recorder's.
        None where the second camera's take is not matched.
    """
    rng = np.random.default_rng(seed + 9_000)
    where = {"ppm": float(rng.uniform(-30, 30)), "offset_s": float(rng.uniform(-2.5, -0.5))}
    one, other = (material.pair(_WHOSE_S, seed, snr_db=db, **where) for db in (15.0, beside_db))
    edits = _one(_WHOSE_S, rng)
    one = of_scratch(one, edits) if scratch else edited(one, edits)
    sound = material.hear(one.sound)
    key = {"a": "A", "b": "B", "s": "S1"}.__getitem__
    own, beside = (
        match_of(name, "s", measure(material.hear(each.picture), sound)) for name, each in (("a", one), ("b", other))
    )
    if own is None or not own.steps:
        return False, None
    return True, None if beside is None or not beside.sure else bool(steps_of_scratch(own, [own, beside], key))


def scratch_alone(seed: int, kind: str) -> tuple[bool, bool]:
    """Let the scratch of the only camera gain samples; say whether the step was found, and seen to be the scratch's.

    Parameters
    ----------
    seed : int
    kind : str
        "repeated" or "silence".
    """
    rng = np.random.default_rng(seed + 9_500)
    count = _size(rng, 48)
    at = float(rng.uniform(0.2, 0.8)) * _WHOSE_S
    one = of_scratch(material.pair(_WHOSE_S, seed, snr_db=15), [(at, kind, count)])
    found = measure(material.hear(one.picture), material.hear(one.sound))
    jumps = found.line.jumps if found.line else ()
    steps = [jump for jump in jumps if abs(jump.step_s - count / WORK_RATE) < _EXACT_S]
    return bool(steps), any(jump.is_scratchs for jump in steps)


def _main_whose(scale: float) -> None:
    print("\nwhose step, by a second camera: noise   n  found  beside matched  told as the scratch's")
    for name, scratch in (("the scratch's", True), ("the recorder's", False)):
        for beside_db in _BESIDE_DB:
            count = max(2, round(40 * scale))
            told = [whose(seed, beside_db, scratch=scratch) for seed in range(count)]
            said = [one for found, one in told if found and one is not None]
            row = f"{count:4}{sum(found for found, _ in told):7}{len(said):16}{sum(said):23}"
            print(f"{name:32}{beside_db:5.0f} dB{row}", flush=True)
    print("\nwhat the only camera's scratch gained   n  found  seen to be its own")
    for kind in ("repeated", "silence"):
        count = max(2, round(40 * scale))
        own = [scratch_alone(seed, kind) for seed in range(count)]
        print(f"{kind:36}{count:4}{sum(one for one, _ in own):7}{sum(seen for _, seen in own):20}", flush=True)


def main(scale: float) -> None:
    """Run and print."""
    _main_whose(scale)
    for title, faults in (("jumps, 15 dB", ()), ("the same, AAC 24 kb/s on the camera", ("aac",))):
        print(
            f"\n{title:38}{'n':>4}{'matched':>9}{'jumps: right':>14}{'inside':>9}{'invented':>10}"
            f"{'seen, mistaken':>16}{'unsure':>8}"
            f"{'width s':>9}{'median µs, worst ms off':>26}{'band':>6}{'ppm RMS':>9}{'band':>6}{'CPU s':>7}"
        )
        for name, (seconds, _) in CASES.items():
            count = max(2, round(30 * scale * min(1.0, 120 / seconds)))
            told = run(name, count, faults)
            off = np.abs(told.off_us or [np.nan])
            print(
                f"{name:38}{count:4}{told.matched:9}{f'{told.exact} of {told.jumps}':>14}{told.inside:9}"
                f"{told.invented:10}{f'{told.seen}, {told.mistaken}':>16}{told.unsure:8}"
                f"{np.median(told.widths_s or [np.nan]):9.3f}"
                f"{f'{np.median(off):.1f}, {off.max() / 1e3:.3f}':>26}{np.mean(told.held or [0]):6.0%}"
                f"{np.sqrt(np.mean(np.square(told.ppm or [np.nan]))):9.3f}{np.mean(told.ppm_held or [0]):6.0%}"
                f"{np.median(told.cpu):7.1f}",
                flush=True,
            )
