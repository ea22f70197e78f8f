"""The trace: offset along a pairing, window by window, and the line with steps that they lie on."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound import fine, jumps
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Jump, Line, TracePoint
from vesk.core.sound.places import Places, find_with_steps
from vesk.core.sound.steps import LEAST_STEP_S, find_steps
from vesk.core.sound.verify import Verified
from vesk.core.sound.windows import Stretch, lay_windows

MAX_WINDOWS = 150
_CLEAR, _WELL = 4.0, 24.0  # a peak's height over the rest: barely and fully trusted
_ROUGH_S = 4e-4
_LEAST_AGREEING = 3
_ALIKE = 5e-4  # of a slope: an offset read in picture seconds is then off by less than a thousandth of itself


@dataclass(frozen=True, slots=True)
class Traced:
    """A place traced in full: the line, every window, the share of them that agree, the stretch."""

    line: Line
    trace: tuple[TracePoint, ...]
    share: float
    stretch: Stretch


def trace(picture: Hearing, sound: Hearing, place: Verified, others: list[Verified]) -> Traced | None:
    """Trace a place: lay the windows onto its line, find its jumps, time everything finely.

    Parameters
    ----------
    picture, sound : Hearing
    place : Verified
        From `verify`, true to a fifth of a millisecond.
    others : list of Verified
        Found elsewhere: stretches of the take may lie there, where samples were lost or doubled.

    Returns
    -------
    Traced or None
        None when fewer than three windows speak.
    """
    cells = lay_windows(picture.seconds, sound.seconds, place.guess, most=MAX_WINDOWS, overlap=0.5)
    if cells is None:
        return None
    path, found = _rough(picture, sound, cells, place, others)
    fitted = _fit(picture, sound, cells, path)
    if fitted is None and found:
        path, found = replace(path, jumps=()), []
        fitted = _fit(picture, sound, cells, path)
    if fitted is None:
        return None
    path, more = _with_small_steps(cells, fitted, found)
    if len(more) > len(found):
        # A slant that was a stair: laid anew, without what it stood for.
        again = _fit(picture, sound, cells, path)
        if again is not None:
            fitted, found = again, more
    if found:
        placed = _placed(picture, sound, fitted, found)
        fitted = _fit(picture, sound, cells, replace(fitted.path, jumps=tuple((at, step) for at, step, *_ in placed)))
        if fitted is None:
            return None
        sure = _sure(fitted)  # and each lies after the one before
        if not all(sure):
            # What the fine timing does not confirm was none: without it, once more.
            kept = tuple(jump for jump, real in zip(fitted.path.jumps, sure, strict=True) if real)
            placed = [one for one, real in zip(placed, sure, strict=True) if real]
            fitted = _fit(picture, sound, cells, replace(fitted.path, jumps=kept))
            if fitted is None:
                return None
        found_at = [(at, low, high) for at, _, low, high in placed]
    else:
        found_at = []
    return _result(fitted, cells, found_at)


@dataclass(frozen=True, slots=True)
class _Fitted:
    path: fine.Path
    covariance: NDArray[np.float64]
    away: NDArray[np.float64]  # off the path and the window's place
    heights: NDArray[np.float64]
    agrees: NDArray[np.bool_]
    heard: NDArray[np.bool_]
    places: Places


def _rough(
    picture: Hearing, sound: Hearing, cells: Stretch, place: Verified, others: list[Verified]
) -> tuple[fine.Path, list[jumps.Change]]:
    base = fine.Path(place.middle_s, place.at_middle_s, place.slope, polarity=place.polarity)
    if not jumps.enough_for(cells.tail_s - cells.head_s):
        return base, []
    levels = jumps.find_levels(picture, sound, cells, place, others)
    if len(levels) == 1:
        return base, []
    assigned = jumps.assign(levels)
    found = jumps.changes(levels, assigned, cells.centres_s)
    start = levels[int(assigned[0])].above_s
    steps = tuple(((one.before_s + one.after_s) / 2, one.step_s) for one in found)
    return replace(base, level_s=place.at_middle_s + start, jumps=steps), found


def _with_small_steps(
    cells: Stretch, fitted: _Fitted, found: list[jumps.Change]
) -> tuple[fine.Path, list[jumps.Change]]:
    """Look for steps in the windows' own timings; the path and changes with those that were found."""
    at = cells.centres_s
    clear = np.isfinite(fitted.away) & (fitted.heights > 1.5 * _CLEAR)
    if clear.sum() < 2 * _LEAST_AGREEING + 2:
        return fitted.path, found
    offsets = fitted.path.offset_at(at) + fitted.away  # who speaks where is no step
    steps, level, slope = find_steps(at[clear], offsets[clear], [when for when, _ in fitted.path.jumps])
    if len(steps) <= len(found):
        return fitted.path, found
    changes = [jumps.Change(step, before, after) for before, after, step in steps]
    path = replace(
        fitted.path,
        middle_s=float(at[clear].mean()),
        level_s=level,
        slope=slope,
        jumps=tuple(((before + after) / 2, step) for before, after, step in steps),
    )
    return path, changes


def _fit(picture: Hearing, sound: Hearing, cells: Stretch, path: fine.Path) -> _Fitted | None:
    """Fit a path: first by every window's own peak, robustly, then by all windows together."""
    crossed = fine.cross(picture, sound, cells, path)
    if not crossed.heard.any():
        return None
    at = cells.centres_s
    half = cells.length / 2 / WORK_RATE
    whole = np.ones(at.size, bool)
    for when, _ in path.jumps:
        whole &= np.abs(at - when) > half
    if path.jumps:
        path = _levelled(crossed, path, whole & crossed.heard)
        crossed = _realigned(picture, sound, crossed, path)
    away, heights = fine.peaks(crossed, crossed.whitened())
    clear = whole & np.isfinite(away) & (heights > _CLEAR)
    near = clear & (np.abs(away) < _ROUGH_S * 2)
    if near.sum() < _LEAST_AGREEING or not _backed(at[near], path):
        return None
    path = _robust(at[near], away[near], path)
    crossed = _realigned(picture, sound, crossed, path)
    away, heights = fine.peaks(crossed, crossed.whitened())
    clear = whole & np.isfinite(away) & (heights > _CLEAR)
    places, more = find_with_steps(at, away, clear, [when for when, _ in path.jumps])
    if len(places.above_s) > 1 or any(more):
        path = replace(
            path,
            level_s=path.level_s + places.level_s + places.slope * path.middle_s,
            slope=path.slope + places.slope,
            jumps=tuple((when, step + new) for (when, step), new in zip(path.jumps, more, strict=True)),
        )
        crossed = _realigned(picture, sound, crossed, path, places.of_windows_s)
        away, heights = fine.peaks(crossed, crossed.whitened())
        near = whole & np.isfinite(away) & (heights > _CLEAR) & (np.abs(away) < _ROUGH_S) & (places.of >= 0)
        if near.sum() < _LEAST_AGREEING or not _backed(at[near], path):
            return None
    covariance = np.zeros((2, 2))
    for _ in range(2):
        weighted = fine.weighted(crossed, near)
        away, heights = fine.peaks(crossed, weighted)
        usual = float(np.median(np.abs(away[near & np.isfinite(away)]))) if near.any() else 0.0
        limit = min(max(6 * 1.4826 * usual, 1e-4), _limit_between(places))
        near = whole & crossed.heard & np.isfinite(away) & (np.abs(away) < limit)
        if len(places.above_s) > 1:
            near &= places.of >= 0
        if near.sum() < _LEAST_AGREEING or not _backed(at[near], path):
            return None
        result = fine.fit_together(crossed, weighted, near.astype(float), places.of, places.above_s)
        before = crossed.path.offset_at(at) + crossed.above_s
        places = replace(places, above_s=result.above_s)
        crossed = _realigned(picture, sound, crossed, result.path, places.of_windows_s)
        covariance = result.covariance
        away = away + before - crossed.path.offset_at(at) - crossed.above_s
        path = result.path
    return _Fitted(crossed.path, covariance, away, heights, near, crossed.heard, places)


def _limit_between(places: Places) -> float:
    """Return how far a window may lie off its place: not as far as the next."""
    apart = np.diff(np.sort(places.above_s))
    return min(_ROUGH_S, 0.5 * float(apart.min())) if apart.size else _ROUGH_S


def _levelled(crossed: fine.Crossed, path: fine.Path, usable: NDArray[np.bool_]) -> fine.Path:
    """Shift every stretch between jumps to where all of its windows together peak: a side peak is not enough."""
    at, spectra = crossed.cells.centres_s, crossed.whitened()
    edges = [-np.inf, *(when for when, _ in path.jumps), np.inf]
    shifts = []
    for low, high in pairwise(edges):
        inside = usable & (at > low) & (at <= high)
        shifts.append(fine.shift_of(crossed, spectra, inside) if inside.sum() >= _LEAST_AGREEING else 0.0)
    steps = (step + after - before for (_, step), (before, after) in zip(path.jumps, pairwise(shifts), strict=True))
    jumps = tuple((when, step) for (when, _), step in zip(path.jumps, steps, strict=True))
    return replace(path, level_s=path.level_s + shifts[0], jumps=jumps)


def _backed(at: NDArray[np.float64], path: fine.Path) -> bool:
    """Say whether every stretch between jumps has windows that speak for it."""
    edges = [-np.inf, *(when for when, _ in path.jumps), np.inf]
    return all(((at > low) & (at <= high)).sum() >= 2 for low, high in pairwise(edges))


def _realigned(
    picture: Hearing,
    sound: Hearing,
    crossed: fine.Crossed,
    path: fine.Path,
    above_s: NDArray[np.float64] | None = None,
) -> fine.Crossed:
    """Align to a path close by: by turning phases where picture and sound seconds are alike, else cut anew."""
    above = crossed.above_s if above_s is None else above_s
    if abs(path.slope) < _ALIKE:
        return crossed.moved(path, above)
    return fine.cross(picture, sound, crossed.cells, path).moved(path, above)


def _robust(at: NDArray[np.float64], away: NDArray[np.float64], path: fine.Path) -> fine.Path:
    """Move a path to where most windows lie: level, slope and steps by iterated reweighting (Tukey's bisquare)."""
    x = at - path.middle_s
    design = np.stack([np.ones(x.size), x, *(at > when for when, _ in path.jumps)], axis=1)
    values = np.zeros(design.shape[1])
    values[0] = float(np.median(away))
    for _ in range(25):
        residual = away - design @ values
        scale = max(float(np.median(np.abs(residual))) * 1.4826, 2e-7)
        weight = np.clip(1 - (residual / (4.685 * scale)) ** 2, 0, 1) ** 2
        normal = (design * weight[:, None]).T @ design + 1e-9 * np.eye(values.size)
        # A prior of ±300 ppm, as in the fit that follows.
        normal[1, 1] += (scale / 300e-6) ** 2
        values = np.linalg.solve(normal, (design * weight[:, None]).T @ away)
    jumps = tuple((when, step + float(new)) for (when, step), new in zip(path.jumps, values[2:], strict=True))
    return replace(path, level_s=path.level_s + float(values[0]), slope=path.slope + float(values[1]), jumps=jumps)


def _placed(
    picture: Hearing, sound: Hearing, fitted: _Fitted, found: list[jumps.Change]
) -> list[tuple[float, float, float, float]]:
    """Say of every jump where it is: (at, step, low, high)."""
    placed = []
    path, above = fitted.path, fitted.places.above_s
    level = path.level_s
    for change, (_, step) in zip(found, path.jumps, strict=True):
        before = replace(path, level_s=level, jumps=())
        at, low, high = jumps.place_jump(picture, sound, before, step, change.before_s, change.after_s, above_s=above)
        placed.append((at, step, low, high))
        level += step
    return placed


def _sure(fitted: _Fitted) -> list[bool]:
    errors = np.sqrt(np.maximum(np.diag(fitted.covariance)[2:], 0))
    return [
        abs(step) >= LEAST_STEP_S and abs(step) > 6 * error
        for (_, step), error in zip(fitted.path.jumps, errors, strict=True)
    ]


def _result(fitted: _Fitted, cells: Stretch, found_at: list[tuple[float, float, float]]) -> Traced:
    path, covariance = fitted.path, fitted.covariance
    errors = np.sqrt(np.maximum(np.diag(covariance), 0))
    jumps = tuple(
        Jump(at, step, low, high, float(error))
        for (at, low, high), (_, step), error in zip(found_at, path.jumps, errors[2:], strict=True)
    )
    line = Line(
        middle_s=path.middle_s,
        at_middle_s=path.level_s,
        ppm=-path.slope * 1e6,
        se_middle_s=float(errors[0]),
        se_ppm=float(errors[1]) * 1e6,
        jumps=jumps,
        covariance=tuple(tuple(float(value) for value in row) for row in covariance),
        places=_heard_from(fitted),
    )
    at = cells.centres_s
    weight = np.clip((fitted.heights - _CLEAR) / (_WELL - _CLEAR), 0.0, 1.0) ** 2
    shown = np.isfinite(fitted.away) & (weight > 0)
    offsets = path.offset_at(at) + fitted.places.of_windows_s + fitted.away
    points = tuple(
        TracePoint(float(at[i]), float(offsets[i]), float(weight[i]), bool(fitted.agrees[i]))
        for i in np.flatnonzero(shown)
    )
    share = float(fitted.agrees.sum() / max(1, int(fitted.heard.sum())))
    return Traced(line, points, share, cells)


def _heard_from(fitted: _Fitted) -> tuple[tuple[float, float], ...]:
    """Return by how much later each place is heard than the line's, and its share of the windows; none for one."""
    above = fitted.places.above_s
    if len(above) == 1:
        return ()
    own = fitted.places.of[fitted.agrees]
    return tuple((float(level), float((own == number).mean())) for number, level in enumerate(above))
