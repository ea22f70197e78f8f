"""How late a camera hears against its own picture, weighed from all its claps and clocks together.

A scratch can be late because the microphone is far, and late or early because the camera delays its sound; both move
good sound off the picture alike when it is laid against the scratch. A clap that was seen and heard bounds the lateness
to the width of a frame; a clock that is not fed by the scratch says how far ahead of it the scratch is, but for what
the clock itself is off by. Each of these can lie. So the lateness is weighed on a grid: what is usual, times what every
clap allows (or was no clap), times what every stretch of the clock makes likely.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from vesk.core.kinds import LTC, Clock

_STEP_S = 2.5e-4
_LOWEST_S, _HIGHEST_S = -0.25, 0.35
_TURNS, _EARLY = 8, 2.0  # of a turn's density in what is left of half a frame: most are early
_BEYOND = 8.0  # edges: what lies further is as if it was no clap
_EDGE_S = 0.002  # by how much a clap's own distance may move it past its interval
_CLAP_REACH_S = 0.5  # where something that is no clap may lie
_NEAR_S = 0.5  # a clock further off was not set by a jam: it says nothing of fractions of a second
_SAID_S = 0.001
_NEVER = 1e-12  # nothing is impossible
_CLOCK_SE_S = 0.0015
ROUNDED = 0.12  # of a frame: takes that scatter more have labels that keep no step with their frames
# What is usual: a microphone a few metres further than the recorder's; far ones; whole frames inside the camera.
_USUAL, _FAR, _FRAMES, _ANY = 0.65, 0.15, 0.10, 0.10
_ANY_S, _WILD = 0.06, 0.05  # what no distance explains is rarely over some frames: that is a header that nobody jammed
_USUAL_S, _USUAL_SPREAD_S, _FAR_S, _FRAME_SPREAD_S = 0.004, 0.006, 0.12, 0.002


@dataclass(frozen=True, slots=True)
class ClapBound:
    """What one clap allows: lateness between two bounds (seconds, a frame and a half apart), if it was one.

    `likely` says how likely that is, 0 to 1. The bounds are those of `core.picture.closure`: from one frame before the
    one that first shows it closed to half a frame after that begins.
    """

    low_s: float
    high_s: float
    likely: float


@dataclass(frozen=True, slots=True)
class ClockSays:
    """A stretch of a clock that is not fed by the scratch.

    Attributes
    ----------
    ahead_s : float
        By how much the scratch makes it look ahead of the reference, seconds: its own error plus the lateness.
    se_s, scatter_s : float
        Of that, and of one take about it.
    clock : Clock
    frame_s : float
        A header counts whole frames: its own frames may begin up to one after its labels do.
    """

    ahead_s: float
    se_s: float
    scatter_s: float
    clock: Clock
    frame_s: float


@dataclass(frozen=True, slots=True)
class Lateness:
    """How late a camera hears.

    Attributes
    ----------
    best_s : float
        Likeliest, seconds; positive is late.
    low_s, high_s : float
        95 of 100 lie between.
    as_known : float
        How likely it is what is known or usual, within the tolerance: 0 to 1.
    agreeing, claps : int
        How many claps allow `best_s`, of how many.
    clocks : int
        How many stretches of its clock do, within a tenth of a frame.
    """

    best_s: float
    low_s: float
    high_s: float
    as_known: float
    agreeing: int
    claps: int
    clocks: int


def weigh_lateness(
    known_s: float,
    *,
    said: bool,
    frame_s: float,
    tolerance_s: float,
    claps: Sequence[ClapBound] = (),
    clocks: Sequence[ClockSays] = (),
) -> Lateness:
    """Weigh how late a camera hears.

    Parameters
    ----------
    known_s : float
        As it is entered, seconds.
    said : bool
        Whether a person said so.
    frame_s, tolerance_s : float
        Of its picture, seconds.
    claps : sequence of ClapBound
    clocks : sequence of ClockSays
    """
    return _weighed(known_s, said, frame_s, tolerance_s, tuple(claps), tuple(clocks))


@lru_cache(maxsize=64)  # as clocks are remembered: most cameras are asked about with the same evidence again
def _weighed(
    known_s: float,
    said: bool,  # noqa: FBT001
    frame_s: float,
    tolerance_s: float,
    claps: tuple[ClapBound, ...],
    clocks: tuple[ClockSays, ...],
) -> Lateness:
    edges = min(_LOWEST_S, known_s + _LOWEST_S), max(_HIGHEST_S, known_s + _HIGHEST_S)
    lowest, highest = (round(edge / _STEP_S) for edge in edges)
    grid = np.arange(lowest, highest + 1, dtype=np.float64) * _STEP_S
    weight = np.log((_normal(grid, known_s, _SAID_S) if said else _usual(grid, known_s, frame_s)) + _NEVER)
    weight = weight + _allowed(grid, claps)
    for one in clocks:
        if abs(one.ahead_s - known_s) < _NEAR_S:
            weight = weight + np.log(_own_error(one.ahead_s - grid, one) + _NEVER)
    share = np.exp(weight - weight.max())
    share /= share.sum()
    near = np.abs(grid - known_s) <= tolerance_s
    peak = float(grid[int(np.argmax(np.convolve(share, np.ones(9), "same")))])
    about = np.abs(grid - peak) <= frame_s / 2
    best = float((share * grid)[about].sum() / share[about].sum())
    summed = np.cumsum(share)
    low, high = (float(grid[min(grid.size - 1, int(np.searchsorted(summed, part)))]) for part in (0.025, 0.975))
    return Lateness(
        best, low, high, float(share[near].sum()),
        sum(clap.low_s - _EDGE_S <= best <= clap.high_s + _EDGE_S for clap in claps), len(claps),
        sum(abs(one.ahead_s - best) < 0.1 * frame_s for one in clocks),
    )  # fmt: skip


def _normal(x: NDArray[np.float64], mean: float, spread: float) -> NDArray[np.float64]:
    made: NDArray[np.float64] = np.exp(-0.5 * ((x - mean) / spread) ** 2) / (spread * np.sqrt(2 * np.pi))
    return made


def _uniform(x: NDArray[np.float64], low: float, high: float) -> NDArray[np.float64]:
    made: NDArray[np.float64] = ((x >= low) & (x <= high)) / (high - low)
    return made


def _usual(grid: NDArray[np.float64], known_s: float, frame_s: float) -> NDArray[np.float64]:
    whole = sum(_normal(grid, known_s + k * frame_s, _FRAME_SPREAD_S) for k in (-2, -1, 1, 2))
    made: NDArray[np.float64] = (
        # Where a distance is entered it is that; where none is, some metres are usual.
        _USUAL * _normal(grid, known_s or _USUAL_S, _USUAL_SPREAD_S)
        + _FAR * _uniform(grid, known_s, known_s + _FAR_S)
        + _FRAMES / 4 * whole
        + _ANY * (1 - _WILD) * _normal(grid, known_s, _ANY_S)
        + _ANY * _WILD * _uniform(grid, float(grid[0]), float(grid[-1]))
    )
    return made


def _allowed(grid: NDArray[np.float64], claps: Sequence[ClapBound]) -> NDArray[np.float64]:
    """Return the log of how likely all claps are seen and heard just so, for each lateness.

    Sticks that meet while a frame is exposed are seen closed in it or in the next. How far into the exposure that
    turns is the same for all claps of a camera, but unknown: half a frame at most and rather early, since many
    exposures are shorter, and all have to show the sticks closed for most of their time.
    """
    turns = (np.arange(_TURNS) + 0.5) / _TURNS / 2  # of a frame
    early = (0.5 - turns) ** _EARLY
    total = np.repeat(np.log(early / early.sum())[:, np.newaxis], grid.size, axis=1)
    for clap in claps:
        frame = (clap.high_s - clap.low_s) / 1.5
        low = (clap.low_s + (0.5 - turns) * frame)[:, np.newaxis]
        no_clap = (1 - clap.likely) / (2 * _CLAP_REACH_S)
        beyond = _BEYOND * _EDGE_S
        first, last = np.searchsorted(grid, (clap.low_s - beyond, clap.low_s + 1.5 * frame + beyond))
        near = grid[first:last]
        away = np.maximum(0.0, np.maximum(low - near, near - low - frame))
        inside = np.exp(-0.5 * (away / _EDGE_S) ** 2) / frame
        total += np.log(no_clap)
        total[:, first:last] += np.log1p(clap.likely * inside / no_clap)
    made: NDArray[np.float64] = np.logaddexp.reduce(total, axis=0)
    return made


def _own_error(x: NDArray[np.float64], one: ClockSays) -> NDArray[np.float64]:
    """Return how likely a jammed clock is off by so much (seconds)."""
    spread = float(np.hypot(one.se_s, _CLOCK_SE_S))
    whole = sum(_normal(x, k * one.frame_s, spread) for k in (-2, -1, 1, 2))
    anything = _uniform(x, -2 * _NEAR_S, 2 * _NEAR_S)
    if one.clock == LTC:  # told to a part of a sample
        ltc: NDArray[np.float64] = 0.93 * _normal(x, 0, spread) + 0.05 / 4 * whole + 0.02 * anything
        return ltc
    if one.scatter_s > ROUNDED * one.frame_s:
        # Its frames keep no step with its timecode: labels are rounded, who knows which way.
        rounded: NDArray[np.float64] = 0.9 * _uniform(x, -1.2 * one.frame_s, 1.2 * one.frame_s) + 0.1 * anything
        return rounded
    header: NDArray[np.float64] = (
        0.40 * _normal(x, 0, spread)
        + 0.35 * _uniform(x, -0.5 * one.frame_s, one.frame_s)
        + 0.15 / 4 * whole
        + 0.07 * _uniform(x, -_NEAR_S, _NEAR_S)
        + 0.03 * anything
    )
    return header
