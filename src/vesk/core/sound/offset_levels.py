"""The levels that stretches of a take lie on, parallel to its line: where samples were lost or doubled between them.

All windows are asked at once: the lags at which the path that explains most of them stays (`leaping.py`) are levels,
where that is no chance.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vesk.core.sound.coarse import Candidate, search
from vesk.core.sound.features import FEATURE_RATE, WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.leaping import (
    BESIDE_NATS,
    LEAST_WINDOWS,
    NEVER,
    SWITCH_NATS,
    highest_near,
    path_with_leaps,
    stays_of,
)
from vesk.core.sound.steps import LEAST_STEP_S
from vesk.core.sound.verify import (
    SPOKE,
    TOLERANCE,
    Curves,
    Verified,
    correlate_windows,
    log10_tail,
)
from vesk.core.sound.windows import Stretch

REACH_S = 0.16  # a step up to this is found around the line itself; a larger one as a place of its own
ACCEPT_LOG10, ACCEPT_END_LOG10 = -6.0, -5.0  # a new level must not be chance
_ALIKE_PPM = 700.0
_DIRECT = 0.5  # of an echo's height over its surroundings, which saturates
_SEARCHED_S = 4.0  # a stretch this long can be searched for by its onsets
_CLOSE_S, _CLOSE_REACH_S, _MOST_CLOSE = 0.5, 1.2, 32  # a shorter one is looked at in windows so long, so far about
_PAUSE = 0.1  # of a take's power: in less nobody is heard
_WELL_HEARD = 5.0  # nats: a take whose windows say so much for their lines has no long stretches that say nothing
_ROUNDS = 6
_APART_S = 0.01  # nearer together two places are looked around once
_EXPLAINED = 3.5  # nats: windows that say so much for the line lie on it; by chance they say 1, by a pitch 2.5
_EXPLAINED_IN_HALL = 1.2  # much arrives there at many lags, and none of these is a level
_LEANS_NATS = 20.0  # that another rate must explain beyond a line's own


@dataclass(frozen=True, slots=True)
class OffsetLevel:
    """A line parallel to the take's, by how much it lies higher (s), and each window's evidence for it."""

    above_s: float
    surprise: NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class _Around:
    """What all windows say of the lags about a place: (windows, lags), by how much those lie above the line, s."""

    curves: Curves
    above_s: NDArray[np.float64]
    surprise: NDArray[np.float32]
    heights: NDArray[np.float32]


def find_levels(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    place: Verified,
    others: list[Verified],
    *,
    near_end: bool = False,
) -> tuple[Verified, list[OffsetLevel]]:
    """Find the lines that stretches of the take lie on: the place's own first.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows of the trace.
    place : Verified
        The best place.
    others : list of Verified
        Places found elsewhere: a jump larger than `REACH_S` shows as one of them.
    near_end : bool
        Whether few windows near an end are asked: at the place's own rate, and believed a little sooner.

    Returns
    -------
    place : Verified
        The same, at the rate that all stretches share: one line through two levels leans from one to the other.
    levels : list of OffsetLevel
        Above it.
    """
    verified = _as_verified(cells, place)
    if verified is not None and not others and all(run.size < LEAST_WINDOWS for run in _open_runs([verified])):
        return place, [verified]  # no stretch is left to be explained
    curves = correlate_windows(picture, sound, cells, place.guess, int(REACH_S * WORK_RATE))
    place = place if near_end or place.hall_s else _upright(curves, place)
    first = _laid(curves, place, 0.0)
    base = np.asarray(place.offset_at(first.curves.at_s))
    levels = [OffsetLevel(0.0, first.curves.along(base))]
    around = [first]
    most = ACCEPT_END_LOG10 if near_end else ACCEPT_LOG10
    levels = [levels[0], *_stayed(around, base, place, most)]
    wanted = _far(picture, sound, cells, place, others, levels)
    for _ in range(_ROUNDS):
        seen = [float(np.median(one.above_s)) for one in around]
        looked = len(seen)
        for above in wanted:
            if all(abs(above - at) > _APART_S for at in seen):
                around.append(_around(picture, sound, cells, place, above))
                seen.append(above)
        if len(seen) > looked:
            levels = [levels[0], *_stayed(around, base, place, most)]
        if not any(run.size >= LEAST_WINDOWS for run in _open_runs(levels)):
            break
        # What lies far off a place that was looked around may go on beyond what was seen.
        ends = [one.above_s for one in levels if min(abs(one.above_s - at) for at in seen) > REACH_S / 4]
        wanted = [above for above in ends if not place.is_echo(above)]
        if not wanted:
            break
    return place, levels


def _upright(curves: Curves, place: Verified) -> Verified:
    """Return a place at the rate along which the windows between leaps lie, where that explains much more."""
    around = _laid(curves, place, 0.0)
    path, leaps = path_with_leaps(_only_places(around.surprise, around.above_s, place.no_places_s))
    said = around.surprise[np.arange(path.size), path]
    price = leaps * SWITCH_NATS + BESIDE_NATS * int((np.abs(np.diff(path)) == 1).sum())
    gain = float(said.sum()) - price - float(curves.along(np.asarray(place.offset_at(curves.at_s))).sum())
    stays = [stay[said[stay] > SPOKE] for stay in stays_of(path)]
    stays = [stay for stay in stays if stay.size > LEAST_WINDOWS]
    if gain < _LEANS_NATS or not stays:
        return place
    at, above = curves.at_s, around.above_s[highest_near(around.heights, path)]
    x, y = (np.concatenate([one[stay] - one[stay].mean() for stay in stays]) for one in (at, above))
    slope = float(x @ y / max(float(x @ x), 1e-9))
    if abs(slope) * float(np.ptp(at)) < TOLERANCE / WORK_RATE / 3:
        return place
    # The nearest: another may lie on the echo of a level.
    own = min(stays, key=lambda stay: abs(float(np.median(above[stay]))))
    middle = float(at[own].mean())
    level = float(place.offset_at(middle)) + float(np.median(above[own] - slope * (at[own] - middle)))
    upright = replace(place, slope=place.slope + slope)
    return replace(upright, at_middle_s=level - upright.slope * (middle - place.middle_s))


def _around(picture: Hearing, sound: Hearing, cells: Stretch, place: Verified, above_s: float) -> _Around:
    """Look around a line that lies so far above a place's own."""
    guess = Candidate(place.guess.offset_s + above_s, place.guess.ppm, 0.0)
    return _laid(correlate_windows(picture, sound, cells, guess, int(REACH_S * WORK_RATE)), place, above_s)


def _laid(curves: Curves, place: Verified, above_s: float) -> _Around:
    """Lay what windows say of every lag along a line."""
    column = curves.columns(np.asarray(place.offset_at(curves.at_s)) + above_s)
    reach = int(min(column.min(), curves.surprise.shape[1] - 1 - column.max()))
    lags = np.arange(-max(0, reach), max(0, reach) + 1)
    met = np.clip(column[:, None] + lags, 0, curves.surprise.shape[1] - 1)
    return _Around(
        curves,
        np.asarray(above_s + lags * (curves.step / WORK_RATE), np.float64),
        np.take_along_axis(curves.surprise, met, 1),
        np.take_along_axis(curves.heights, met, 1),
    )


def _stayed(around: list[_Around], base: NDArray[np.float64], place: Verified, most_log10: float) -> list[OffsetLevel]:
    """Return the levels beyond the line's own at which the path through all windows stays, beyond chance."""
    above = np.concatenate([one.above_s for one in around])
    said = np.concatenate([one.surprise for one in around], axis=1)
    # Nearer than a jump can be to the line, and where its echoes lie, nothing is a level of its own.
    known = [(-LEAST_STEP_S, LEAST_STEP_S), *place.no_places_s]
    line = int(np.argmin(np.abs(around[0].above_s)))
    usable = _only_places(said, above, known)
    usable[:, line] = said[:, line]
    path, _ = path_with_leaps(usable)
    most = _EXPLAINED if place.hall_s is None else _EXPLAINED_IN_HALL
    found: list[tuple[float, float]] = []
    for rows in stays_of(path):
        lag = int(np.median(path[rows]))
        if lag == line or rows.size < LEAST_WINDOWS or float(said[rows, line].mean()) > most:
            continue
        chance = log10_tail(float(said[rows, path[rows]].sum()), rows.size) + np.log10(above.size / (2 * TOLERANCE + 1))
        at = _direct_of(around, rows, lag, place.echoes_s)
        if chance <= most_log10 and not any(low < at < high for low, high in known):
            found.append((float(chance), at))
    levels: list[OffsetLevel] = []
    for _, at in sorted(found):
        if all(abs(at - one.above_s) > LEAST_STEP_S for one in levels):
            near = min(around, key=lambda one: abs(float(np.median(one.above_s)) - at))
            levels.append(OffsetLevel(at, near.curves.along(base + at)))
    return levels


def _only_places(
    said: NDArray[np.float32], above_s: NDArray[np.float64], no_places_s: Sequence[tuple[float, float]]
) -> NDArray[np.float32]:
    """Return what windows say of lags, and never of those between some offsets above the line (s)."""
    open_ = np.ones(above_s.size, bool)
    for low, high in no_places_s:
        open_ &= (above_s <= low) | (above_s >= high)
    return np.where(open_, said, np.float32(NEVER))


def _direct_of(around: list[_Around], rows: NDArray[np.int64], lag: int, echoes_s: tuple[float, ...]) -> float:
    """Return by how much what stays at a lag lies above the line, seconds: the direct sound, where that is an echo."""
    for one in around:
        if lag < one.above_s.size:
            break
        lag -= one.above_s.size
    if echoes_s:
        step = one.curves.step
        lag = _direct(one.heights[rows].sum(axis=0), lag, [round(echo * WORK_RATE / step) for echo in echoes_s])
    return float(one.above_s[lag])


def _as_verified(cells: Stretch, place: Verified) -> OffsetLevel | None:
    """Return the evidence for a place's own line that its verifying gave; None where it looked at other windows."""
    at = cells.centres_s
    if place.at_s.size != at.size or float(np.abs(place.at_s - at).max()) > 0.1 * cells.length / WORK_RATE:
        return None
    return OffsetLevel(0.0, place.surprise.astype(np.float32))


def _far(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    place: Verified,
    others: list[Verified],
    levels: list[OffsetLevel],
) -> list[float]:
    """Return how much higher places lie at which a stretch that no level explains was found."""
    found = []
    for other in others:
        # Compared where the other speaks: a short stretch tells little of its slope.
        spoken = other.at_s[other.surprise > SPOKE]
        if spoken.size and abs(other.slope - place.slope) * 1e6 <= _ALIKE_PPM:
            found.append(float(np.median(other.offset_at(spoken) - place.offset_at(spoken))))
    at = cells.centres_s
    for rows in _open_runs(levels):
        low, high = float(at[rows[0]]), float(at[rows[-1]])
        if high - low >= _SEARCHED_S:
            expected = float(place.offset_at((low + high) / 2)) - low
            piece = picture.features[int(low * FEATURE_RATE) : int(high * FEATURE_RATE)]
            candidates = search(piece, sound.features, around_s=expected, most=2)
            found += [candidate.offset_s - expected for candidate in candidates]
        elif _well_heard(levels, rows) and _is_loud(picture, cells, rows):
            found += _close_up(picture, sound, cells, place, rows)
    return [above for above in found if not place.is_echo(above)]


def _well_heard(levels: list[OffsetLevel], rows: NDArray[np.int64]) -> bool:
    """Say whether a take is so clear but for some windows that these should say something, too."""
    others = np.delete(np.max([level.surprise for level in levels], axis=0), rows)
    return bool(others.size) and float(np.median(others)) >= _WELL_HEARD


def _is_loud(picture: Hearing, cells: Stretch, rows: NDArray[np.int64]) -> bool:
    """Say whether something is heard in some windows: in a pause nothing can be said of where it lies."""
    power = np.array([float(np.mean(picture.window(int(start), cells.length) ** 2)) for start in cells.starts])
    return float(power[rows].mean()) > _PAUSE * float(power.mean())


def _close_up(
    picture: Hearing, sound: Hearing, cells: Stretch, place: Verified, rows: NDArray[np.int64]
) -> list[float]:
    """Look at a short stretch in short windows, farther about: where these agree it lies so much above the line."""
    half = cells.length / 2 / WORK_RATE
    low = max(cells.head_s, float(cells.centres_s[rows[0]]) - half)
    high = min(cells.tail_s, float(cells.centres_s[rows[-1]]) + half)
    starts = np.arange(low, high - _CLOSE_S, _CLOSE_S / 2)
    if starts.size < 2 * LEAST_WINDOWS:
        return []
    if starts.size > _MOST_CLOSE:
        starts = starts[:: -(-starts.size // _MOST_CLOSE)]
    short = Stretch((starts * WORK_RATE).astype(np.int64), int(_CLOSE_S * WORK_RATE), low, high)
    curves = correlate_windows(picture, sound, short, place.guess, int(_CLOSE_REACH_S * WORK_RATE))
    total = curves.surprise.sum(axis=0)
    lag = int(np.argmax(total))
    chance = log10_tail(float(total[lag]), starts.size) + np.log10(total.size / (2 * TOLERANCE + 1))
    if chance > ACCEPT_LOG10:
        return []
    at = (curves.first + lag * curves.step) / WORK_RATE
    return [float(np.median(at - place.offset_at(curves.at_s)))]


def _open_runs(levels: list[OffsetLevel]) -> list[NDArray[np.int64]]:
    """Return the runs of windows that no level explains."""
    known = np.max([level.surprise for level in levels], axis=0)
    runs, count = ndimage.label(ndimage.uniform_filter1d((known < 2.5).astype(float), 3) > 0.5)
    return [np.flatnonzero(runs == run) for run in range(1, count + 1)]


def _direct(heights: NDArray[np.float32], k: int, echoes: list[int]) -> int:
    """Return the lag of the direct sound where an echo stands at lag `k`, by how high windows stand together; else `k`.

    Direct sound has the sign of its echo; as far to the echo's other side the other sign stands.
    """
    sign = np.sign(float(heights[max(0, k - TOLERANCE) : k + TOLERANCE + 1].sum())) or 1.0

    def height(at: int) -> tuple[float, int]:
        near = range(max(0, at - TOLERANCE), min(heights.size, at + TOLERANCE + 1))
        return max(((float(heights[one] * sign), one) for one in near), default=(0.0, k))

    found = max((height(k - echo) for echo in echoes), default=(0.0, k))
    return found[1] if found[0] > _DIRECT * height(k)[0] else k
