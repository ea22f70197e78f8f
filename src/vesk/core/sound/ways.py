"""Ways: somebody walks, or carries the microphone, and is heard later or earlier for it; no clock did that.

A clock cannot stop, bend sharply or come back; whoever walks does. Where people stand, offsets run along the clocks'
own slope: what is measured of the clocks rests on these stretches alone. A step between two of them is a jump only
where nobody could have walked so fast, or where sound says so; in a pause that is long enough it may be either.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.distance import SPEED_OF_SOUND
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.follow import Followed
from vesk.core.sound.verify import SPOKE, TOLERANCE, log10_tail

LEAST_S = 0.0005  # 17 cm: less is a body that sways
FASTEST_S = 1.8 / SPEED_OF_SOUND  # of a walk, seconds of sound a second
CRYSTAL = 150e-6  # what a clock may be off by, and a walk of five centimetres a second is not
_KERNEL = 30e-6
_ALIKE_S = 1.5e-4  # within which a run's windows lie
_GATHERED_S = 3.5e-5
_MOST_UNHEARD, _CHANCE_LOG10 = 2, -6.0
_LEAST_RUN = 6
_STANDING = 0.25  # of the windows that speak: with less, nobody stands
_NEAR = 0.1  # of the windows that stand: who is heard in less does not set the line
_PRIOR = 60e-6  # a crystal's rate, where those who walk tell none
_ONE_S = 3e-5  # to which a followed window tells its offset
_CORNER_S = 0.0006


@dataclass(frozen=True, slots=True)
class Run:
    """Windows in which somebody stands: which, and at which level above the clocks' line."""

    rows: NDArray[np.int64]
    level_s: float


@dataclass(frozen=True, slots=True)
class Standing:
    """Where people stand.

    Attributes
    ----------
    slope : float
        Of the clocks' offset, seconds a second.
    runs : tuple of Run
        In the order of time; empty where nobody stands long enough.
    level_s : float
        Of the nearest that counts, at picture time 0.
    se_level_s, se_slope : float
        What is known of both where nobody stands; 0 where somebody does.
    """

    slope: float
    runs: tuple[Run, ...]
    level_s: float
    se_level_s: float = 0.0
    se_slope: float = 0.0


def find_standing(followed: Followed, about: float) -> Standing:
    """Find the stretches in which people stand, and the slope that is the clocks'.

    Parameters
    ----------
    followed : Followed
        A path through all windows.
    about : float
        A slope that a crystal's error is about: 0, or that of a pull-down. Seconds a second.
    """
    level = _standing(_level(followed, about), about)
    return replace(level, slope=level.slope + about)


def nobody_stands(followed: Followed, about: float) -> Standing:
    """Return what a path says where nobody ever stands: who sways passes levels again and again.

    Parameters
    ----------
    followed : Followed
        A path through all windows.
    about : float
        As of `find_standing`.
    """
    spoke = followed.surprise > SPOKE
    level = _restless(followed.at_s[spoke], _level(followed, about).offset_s[spoke])
    return replace(level, slope=level.slope + about)


def _level(followed: Followed, about: float) -> Followed:
    return replace(followed, offset_s=followed.offset_s - about * followed.at_s)


def _standing(followed: Followed, about: float) -> Standing:
    spoke = np.flatnonzero(followed.surprise > SPOKE)
    at, offset = followed.at_s, followed.offset_s
    slope = _common_slope(at[spoke], offset[spoke])
    runs: list[Run] = []
    for _ in range(3):
        runs = _runs(at, offset, spoke, slope)
        if not runs:
            break
        top = sum(float(((at[run.rows] - at[run.rows].mean()) * (offset[run.rows] - offset[run.rows].mean())).sum())
                  for run in runs)  # fmt: skip
        spread = sum(float(((at[run.rows] - at[run.rows].mean()) ** 2).sum()) for run in runs)
        slope = top / (spread + (_ONE_S / _PRIOR) ** 2)
    if not _enough(runs, spoke.size):
        slope = _common_slope(at[spoke], offset[spoke])
        runs = _in_turn(offset - slope * at, spoke)
    if not _enough(runs, spoke.size):
        return _restless(at[spoke], offset[spoke])
    runs = _with_strays(runs, offset - slope * at, spoke)
    runs = _of_one([*runs, *_unheard(followed, runs, slope, about)])
    return Standing(slope, tuple(runs), nearest([run.level_s for run in runs], [run.rows.size for run in runs]))


def _with_strays(runs: list[Run], level: NDArray[np.float64], spoke: NDArray[np.int64]) -> list[Run]:
    """Give windows that belong to no run to the one whose level they lie at: the same person speaks again."""
    levels = np.array([run.level_s for run in runs])
    rows = [list(run.rows) for run in runs]
    for row in np.setdiff1d(spoke, np.concatenate([run.rows for run in runs])):
        near = int(np.argmin(np.abs(levels - level[row])))
        if abs(levels[near] - level[row]) < _ALIKE_S / 2:
            rows[near].append(int(row))
    return [Run(np.array(sorted(own)), run.level_s) for own, run in zip(rows, runs, strict=True)]


def _of_one(runs: list[Run]) -> list[Run]:
    """Join runs at one level that take turns: they are one person's. In the order of time."""
    made: list[Run] = []
    for run in sorted(runs, key=lambda run: int(run.rows[0])):
        same = next(
            (n for n, one in enumerate(made)
             if abs(one.level_s - run.level_s) < 2 * _ALIKE_S and one.rows[-1] > run.rows[0]), None
        )  # fmt: skip
        if same is None:
            made.append(run)
        else:
            rows = np.unique(np.concatenate([made[same].rows, run.rows]))
            made[same] = Run(rows, made[same].level_s)
    return made


def of_levels(runs: Sequence[Run]) -> list[Run]:
    """Return one run for each level, whenever it is heard; in the order of time.

    Parameters
    ----------
    runs : sequence of Run
    """
    made: list[Run] = []
    for run in sorted(runs, key=lambda run: -run.rows.size):
        same = next((n for n, one in enumerate(made) if abs(one.level_s - run.level_s) < 2 * _ALIKE_S), None)
        if same is None:
            made.append(run)
        else:
            made[same] = replace(made[same], rows=np.unique(np.concatenate([made[same].rows, run.rows])))
    return sorted(made, key=lambda run: int(run.rows[0]))


def _unheard(followed: Followed, runs: list[Run], slope: float, about: float) -> list[Run]:
    """Return those whom a path that follows somebody else passes over: levels that its mute windows share."""
    still, at = followed.still, followed.at_s
    mute = np.flatnonzero((followed.surprise <= SPOKE) & (followed.surprise > 0))
    lags = still.surprise.shape[1]
    shifts = np.arange(-lags + 1, lags) / WORK_RATE
    base = np.median([run.level_s for run in runs]) + slope * at
    made: list[Run] = []
    while mute.size >= _LEAST_RUN and len(made) < _MOST_UNHEARD:
        along = np.stack([still.along(base + about * at + shift)[mute] for shift in shifts])
        best = int(np.argmax(along.sum(axis=1)))
        chance = log10_tail(float(along[best].sum()), mute.size) + float(np.log10(shifts.size / (2 * TOLERANCE + 1)))
        rows = mute[along[best] > SPOKE]
        if chance > _CHANCE_LOG10 or rows.size < _LEAST_RUN:
            break
        level = float(base[0] - slope * at[0] + shifts[best])
        made.append(Run(rows, level))
        mute = np.setdiff1d(mute, rows)
    return made


def _enough(runs: list[Run], spoke: int) -> bool:
    stand = sum(run.rows.size for run in runs)
    return stand >= _STANDING * spoke and stand >= 2 * _LEAST_RUN


def nearest(levels_s: Sequence[float], counts: Sequence[int]) -> float:
    """Return the level of the nearest who is heard in a tenth of the windows: sound belongs where nobody is far.

    Parameters
    ----------
    levels_s : sequence of float
        By how much later each is heard, seconds.
    counts : sequence of int
        In how many windows.
    """
    order = np.argsort(levels_s)
    enough = np.cumsum(np.array(counts, float)[order]) >= _NEAR * sum(counts)
    return float(np.array(levels_s)[order][int(np.argmax(enough))])


def _in_turn(level: NDArray[np.float64], spoke: NDArray[np.int64]) -> list[Run]:
    """Return those who speak in turn from places of their own: levels at which windows gather, again and again."""
    left = list(spoke)
    made: list[Run] = []
    while len(left) >= _LEAST_RUN:
        own = level[left]
        about = np.abs(own[:, None] - own[None, :]) < _ALIKE_S
        rows = np.array(left)[about[int(np.argmax(about.sum(axis=1)))]]
        # Who sways is heard at every level alike, who stands at one; and for longer than a window.
        lasting = np.isin(rows + 1, rows) | np.isin(rows - 1, rows)
        rows = rows[lasting]
        if rows.size < _LEAST_RUN:
            break
        if float(np.median(np.abs(level[rows] - np.median(level[rows])))) < _GATHERED_S:
            made.append(Run(rows, float(np.median(level[rows]))))
        left = [row for row in left if row not in set(rows)]
    return sorted(made, key=lambda run: int(run.rows[0]))


def _restless(at: NDArray[np.float64], offset: NDArray[np.float64]) -> Standing:
    """Lay a line where nobody stands: along the nearest, at a crystal's usual rate."""
    low, middle = np.quantile(offset, (0.1, 0.5))
    spread = float(middle - low)
    span = float(np.ptp(at)) or 1.0
    # What a wave about a line says of its slope, as few halves of it as there are.
    turns = max(2.0, float((np.diff(np.sign(offset - middle)) != 0).sum()))
    own = 3.5 * spread / span / turns**0.5
    x = at - at.mean()
    fitted = float((x * offset).sum() / (x**2).sum())
    share = _PRIOR**2 / (_PRIOR**2 + own**2)
    slope = float(share * fitted)
    low = float(np.quantile(offset - slope * at, 0.1))
    return Standing(slope, (), low, max(spread / 2, LEAST_S), float((share * own**2) ** 0.5))


def _common_slope(at: NDArray[np.float64], offset: NDArray[np.float64]) -> float:
    """Return the slope that most neighbours share, among those that a crystal may have."""
    if at.size < _LEAST_RUN:
        return 0.0
    slopes = np.concatenate([(offset[k:] - offset[:-k]) / (at[k:] - at[:-k]) for k in (1, 2, 4, 8) if k < at.size])
    grid = np.arange(-CRYSTAL, CRYSTAL, _KERNEL / 3)
    density = np.exp(-0.5 * ((grid[:, None] - slopes) / _KERNEL) ** 2).sum(axis=1)
    return float(grid[int(np.argmax(density))])


def _runs(at: NDArray[np.float64], offset: NDArray[np.float64], spoke: NDArray[np.int64], slope: float) -> list[Run]:
    """Return the runs of windows that lie along the slope, however long they pause."""
    made: list[Run] = []
    level = offset - slope * at
    rows: list[int] = []
    for row in [*spoke, -1]:
        if row >= 0 and (not rows or abs(level[row] - float(np.median(level[rows]))) < _ALIKE_S):
            rows.append(int(row))
            continue
        if len(rows) >= _LEAST_RUN:
            made.append(Run(np.array(rows), float(np.median(level[rows]))))
        rows = [int(row)]
    return _joined(made, level)


def _joined(runs: list[Run], level: NDArray[np.float64]) -> list[Run]:
    """Join neighbours that are one: a single window astray does not end a run."""
    made: list[Run] = []
    for run in runs:
        if made and abs(run.level_s - made[-1].level_s) < _ALIKE_S:
            rows = np.concatenate([made[-1].rows, run.rows])
            made[-1] = Run(rows, float(np.median(level[rows])))
        else:
            made.append(run)
    return made


def corners(at: NDArray[np.float64], later: NDArray[np.float64]) -> list[tuple[float, float]]:
    """Return the few points between which a way is straight (Douglas and Peucker 1973).

    Parameters
    ----------
    at, later : ndarray of float64, shape (n,)
        Picture times in order, and by how much later it is heard, seconds.
    """
    keep = {0, at.size - 1}
    open_ends = [(0, at.size - 1)]
    while open_ends:
        low, high = open_ends.pop()
        if high - low < 2:
            continue
        straight = np.interp(at[low : high + 1], [at[low], at[high]], [later[low], later[high]])
        away = np.abs(later[low : high + 1] - straight)
        furthest = low + int(np.argmax(away))
        if away.max() > _CORNER_S:
            keep.add(furthest)
            open_ends += [(low, furthest), (furthest, high)]
    return [(float(at[n]), float(later[n])) for n in sorted(keep)]


def comes_back(runs: tuple[Run, ...]) -> set[int]:
    """Return which steps between neighbouring runs lead to, or from, a level that is heard twice: nothing was lost.

    Parameters
    ----------
    runs : tuple of Run
        In the order of time.
    """
    found: set[int] = {n for n, (one, other) in enumerate(pairwise(runs)) if one.rows[-1] > other.rows[0]}
    for number in range(len(runs)):
        for other in range(number + 2, len(runs)):
            if abs(runs[number].level_s - runs[other].level_s) < 2 * _ALIKE_S:
                found |= set(range(number, other))
    return found
