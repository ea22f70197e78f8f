"""Fit a line with steps to the windows of a trace: roughly by each one's own peak, finely by all of them together."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound import fine
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.places import Places, find_with_steps
from vesk.core.sound.windows import Stretch

CLEAR = 4.0  # a peak's height over the rest: barely trusted
ROUGH_S = 4e-4
LEAST_AGREEING = 3
_LEAST_BACKED = 2  # windows of a stretch between two jumps
_ALIKE = 5e-4  # of a slope: an offset read in picture seconds is then off by less than a thousandth of itself


@dataclass(frozen=True, slots=True)
class Fitted:
    """A path fitted to all windows of a take.

    Attributes
    ----------
    path : Path
    covariance : ndarray of float64, shape (2 + jumps, 2 + jumps)
        Of level (s), slope (s per s) and steps (s).
    away, heights : ndarray of float64, shape (windows,)
        How far each window's own peak lies off the path and its place, seconds; and how high it stands.
    agrees, heard : ndarray of bool, shape (windows,)
        Which windows the fit rests on; in which both sound.
    places : Places
    """

    path: fine.Path
    covariance: NDArray[np.float64]
    away: NDArray[np.float64]
    heights: NDArray[np.float64]
    agrees: NDArray[np.bool_]
    heard: NDArray[np.bool_]
    places: Places


def fit(picture: Hearing, sound: Hearing, cells: Stretch, path: fine.Path) -> Fitted | None:
    """Fit a path: first by every window's own peak, robustly, then by all windows together.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    path : Path
        Rough.

    Returns
    -------
    Fitted or None
        None when fewer than three windows speak, or a stretch between two jumps has none.
    """
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
    clear = whole & np.isfinite(away) & (heights > CLEAR)
    near = clear & (np.abs(away) < ROUGH_S * 2)
    if near.sum() < LEAST_AGREEING or not _backed(at[near], path):
        return None
    path, _ = _robust(at[near], away[near], path, np.zeros(int(near.sum()), np.int64))
    crossed = _realigned(picture, sound, crossed, path)
    away, heights = fine.peaks(crossed, crossed.whitened())
    clear = whole & np.isfinite(away) & (heights > CLEAR)
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
        near = whole & np.isfinite(away) & (heights > CLEAR) & (np.abs(away) < ROUGH_S) & (places.of >= 0)
        if near.sum() < LEAST_AGREEING or not _backed(at[near], path):
            return None
    return _finely(picture, sound, crossed, near, whole, places, _limit_between(places))


def fit_places(picture: Hearing, sound: Hearing, cells: Stretch, path: fine.Path, places: Places) -> Fitted | None:
    """Fit a path to windows whose places are known, however far apart these lie: see `fit`.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
    path : Path
        Rough: through the first place.
    places : Places
        Which each window hears, and by how much those lie above the first.
    """
    crossed = fine.cross(picture, sound, cells, path, places.of_windows_s)
    at, half = cells.centres_s, cells.length / 2 / WORK_RATE
    whole = places.of >= 0
    for when, _ in path.jumps:
        whole &= np.abs(at - when) > half
    away, heights = fine.peaks(crossed, crossed.whitened())
    near = whole & np.isfinite(away) & (heights > CLEAR) & (np.abs(away) < ROUGH_S)
    if near.sum() < LEAST_AGREEING or not _backed(at[near], path):
        return None
    # Followed to a tenth of a millisecond: left there, a place's windows would be what scatters about the others.
    path, later = _robust(at[near], away[near], path, places.of[near], len(places.above_s))
    places = replace(places, above_s=tuple(one + more for one, more in zip(places.above_s, later, strict=True)))
    crossed = _realigned(picture, sound, crossed, path, places.of_windows_s)
    return _finely(picture, sound, crossed, near, whole, places, ROUGH_S)


def _finely(
    picture: Hearing,
    sound: Hearing,
    crossed: fine.Crossed,
    near: NDArray[np.bool_],
    whole: NDArray[np.bool_],
    places: Places,
    most_s: float,
) -> Fitted | None:
    """Fit all windows together; those further than some scatter, or `most_s`, off their place are left out."""
    cells, path = crossed.cells, crossed.path
    at = cells.centres_s
    covariance = np.zeros((2, 2))
    for _ in range(2):
        weighted = fine.weighted(crossed, near)
        away, heights = fine.peaks(crossed, weighted)
        timed = np.abs(away[near & np.isfinite(away)])
        usual = float(np.median(timed)) if timed.size else 0.0
        limit = min(max(6 * 1.4826 * usual, 1e-4), most_s)
        near = whole & crossed.heard & np.isfinite(away) & (np.abs(away) < limit)
        if len(places.above_s) > 1:
            near &= places.of >= 0
        if near.sum() < LEAST_AGREEING or not _backed(at[near], path):
            return None
        result = fine.fit_together(crossed, weighted, near.astype(float), places.of, places.above_s)
        before = crossed.path.offset_at(at) + crossed.above_s
        places = replace(places, above_s=result.above_s)
        crossed = _realigned(picture, sound, crossed, result.path, places.of_windows_s)
        covariance = result.covariance
        away = away + before - crossed.path.offset_at(at) - crossed.above_s
        path = result.path
    return Fitted(crossed.path, covariance, away, heights, near, crossed.heard, places)


def _limit_between(places: Places) -> float:
    """Return how far a window may lie off its place: not as far as the next."""
    apart = np.diff(np.sort(places.above_s))
    return min(ROUGH_S, 0.5 * float(apart.min())) if apart.size else ROUGH_S


def _levelled(crossed: fine.Crossed, path: fine.Path, usable: NDArray[np.bool_]) -> fine.Path:
    """Shift every stretch between jumps to where all of its windows together peak: a side peak is not enough."""
    at, spectra = crossed.cells.centres_s, crossed.whitened()
    edges = [-np.inf, *(when for when, _ in path.jumps), np.inf]
    shifts = []
    for low, high in pairwise(edges):
        inside = usable & (at > low) & (at <= high)
        shifts.append(fine.shift_of(crossed, spectra, inside) if inside.sum() >= _LEAST_BACKED else 0.0)
    steps = (step + after - before for (_, step), (before, after) in zip(path.jumps, pairwise(shifts), strict=True))
    jumps = tuple((when, step) for (when, _), step in zip(path.jumps, steps, strict=True))
    return replace(path, level_s=path.level_s + shifts[0], jumps=jumps)


def _backed(at: NDArray[np.float64], path: fine.Path) -> bool:
    """Say whether every stretch between jumps has windows that speak for it."""
    edges = [-np.inf, *(when for when, _ in path.jumps), np.inf]
    return all(((at > low) & (at <= high)).sum() >= _LEAST_BACKED for low, high in pairwise(edges))


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
    return fine.cross(picture, sound, crossed.cells, path, above)


def _robust(
    at: NDArray[np.float64], away: NDArray[np.float64], path: fine.Path, of: NDArray[np.int64], places: int = 1
) -> tuple[fine.Path, list[float]]:
    """Move a path to where most windows lie: level, slope and steps by iterated reweighting (Tukey's bisquare).

    Returns it, and by how much more each of so many places lies above the first of them, seconds.
    """
    x = at - path.middle_s
    own = [of == number for number in range(1, places)]
    design = np.stack([np.ones(x.size), x, *(at > when for when, _ in path.jumps), *own], axis=1)
    values = np.zeros(design.shape[1])
    values[0] = float(np.median(away))
    if places > 1:  # where one place lies well and another does not, the other's windows would count as strays
        values = np.linalg.lstsq(design, away, rcond=1e-6)[0]
    for _ in range(25):
        residual = away - design @ values
        scale = max(float(np.median(np.abs(residual))) * 1.4826, 2e-7)
        weight = np.clip(1 - (residual / (4.685 * scale)) ** 2, 0, 1) ** 2
        normal = (design * weight[:, None]).T @ design + 1e-9 * np.eye(values.size)
        # A prior of ±300 ppm, as in the fit that follows.
        normal[1, 1] += (scale / 300e-6) ** 2
        values = np.linalg.solve(normal, (design * weight[:, None]).T @ away)
    level, slope, *more = values.tolist()
    jumps = tuple((when, step + new) for (when, step), new in zip(path.jumps, more, strict=False))
    later = [0.0, *more[len(jumps) :]]
    return replace(path, level_s=path.level_s + level, slope=path.slope + slope, jumps=jumps), later


def heard_from(fitted: Fitted) -> tuple[tuple[float, float], ...]:
    """Return by how much later each place is heard than the line's, and its share of the windows; none for one.

    Parameters
    ----------
    fitted : Fitted
    """
    above = fitted.places.above_s
    if len(above) == 1:
        return ()
    own = fitted.places.of[fitted.agrees]
    return tuple((float(level), float((own == number).mean())) for number, level in enumerate(above))
