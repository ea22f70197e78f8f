"""Places: people who speak from different places are heard at different delays, each for itself a line.

A window hears who speaks in it. Fitted to one level, who speaks when becomes drift and jumps; with a level for each
place, and one slope for all, it is neither.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

MOST = 3
LEAST_APART_S = 30e-6  # a centimetre of way: nearer than this, places are one with a room around it
_APART = 3.0  # units of scatter between places
_LEAST_WINDOWS = 4
_LEAST_SHARE = 0.08
_BANDWIDTH_S = 15e-6
_OUTLIERS_S = 4e-3  # what belongs to no place lies anywhere in this
_FLOOR_S = 1.5e-6
_ROUNDS = 60
_GAIN = 10.0  # by which the information criterion must fall for a place more
_SLANT_S = 0.5e-3  # by which the rough slope may be wrong over the take, end to end
_STEP_S = 12e-6


@dataclass(frozen=True, slots=True)
class Places:
    """The places that windows hear.

    Attributes
    ----------
    above_s : tuple of float
        By how much each place's offset lies above the first's, which most windows hear; it is 0 itself.
    of : ndarray of int64, shape (windows,)
        Which place each window hears; -1 where none can be told.
    level_s, slope : float
        What to add to the path's level and slope.
    criterion : float
        By which solutions are compared: less is better.
    """

    above_s: tuple[float, ...]
    of: NDArray[np.int64]
    level_s: float
    slope: float
    criterion: float = np.inf

    @property
    def of_windows_s(self) -> NDArray[np.float64]:
        """By how much each window's place lies above the first, seconds; 0 where none can be told."""
        return np.where(self.of >= 0, np.array(self.above_s)[np.maximum(self.of, 0)], 0.0)


@dataclass(frozen=True, slots=True)
class _Mixture:
    levels: NDArray[np.float64]
    slope: float
    scatter: float
    shares: NDArray[np.float64]
    belongs: NDArray[np.float64]
    criterion: float


def find_places(at_s: NDArray[np.float64], away_s: NDArray[np.float64], clear: NDArray[np.bool_]) -> Places:
    """Find the places that a take's windows hear, and the slope that all of them share.

    Parameters
    ----------
    at_s, away_s : ndarray of float64, shape (windows,)
        Picture time of each window, and by how much its own peak lies off the path, seconds.
    clear : ndarray of bool, shape (windows,)
        Windows whose peak means something.

    Returns
    -------
    Places
        How many there are is told by Schwarz's information criterion [1]_ over mixtures of levels with a common slope
        and scatter, and of windows that hear none.

    References
    ----------
    .. [1] G. Schwarz, "Estimating the dimension of a model", Ann. Statist. 6(2), 1978.
    """
    nothing = Places((0.0,), np.where(clear, 0, -1), 0.0, 0.0)
    if clear.sum() < 2 * _LEAST_WINDOWS:
        return nothing
    at, away = at_s[clear], away_s[clear]
    x = at - at.mean()
    slope = _slant(x, away)
    modes = _modes(away - slope * x)
    best: _Mixture | None = None
    # As the path lies, too: where windows scatter widely some gather along a slope by chance, and no fit leaves it.
    single = (_mixture(x, away, np.array([float(np.median(away))]), 0.0),)
    for count in range(1, MOST + 1):
        starts = _starts(modes, away - slope * x, count)
        for found in (*(single if count == 1 else ()), *(_mixture(x, away, start, slope) for start in starts)):
            if found is None:
                continue
            more = best is not None and found.levels.size > best.levels.size
            if best is None or found.criterion < best.criterion - (_GAIN if more else 0):
                best = found
    if best is None:
        return nothing
    order = np.argsort(-best.shares)
    of = np.full(at_s.size, -1, np.int64)
    # The last column is of those that hear no place.
    nearest = np.argmax(best.belongs, axis=1)
    rank = np.empty(order.size + 1, np.int64)
    rank[order], rank[-1] = np.arange(order.size), -1
    of[clear] = rank[nearest]
    levels = best.levels[order]
    return Places(
        tuple(float(level - levels[0]) for level in levels),
        of,
        float(levels[0] - best.slope * at.mean()),
        float(best.slope),
        best.criterion,
    )


def find_with_steps(
    at_s: NDArray[np.float64], away_s: NDArray[np.float64], clear: NDArray[np.bool_], jumps_at_s: Sequence[float]
) -> tuple[Places, tuple[float, ...]]:
    """Find the places, and what to add to each jump's step.

    Who spoke beside a jump leaves its step uncertain by the distances between the places: of the steps so related,
    those count with which the windows before and after hear the same places.

    Parameters
    ----------
    at_s : ndarray of float64
        Picture times of the windows, seconds (windows,).
    away_s : ndarray of float64
        How far each lies off the line, seconds (windows,).
    clear : ndarray of bool
        Which of them are clear (windows,).
    jumps_at_s : sequence of float
        Picture times of the jumps, seconds.

    Returns
    -------
    places : Places
    more_s : tuple of float
        One for each jump, seconds.
    """
    best, more = find_places(at_s, away_s, clear), np.zeros(len(jumps_at_s))
    for number, when in enumerate(jumps_at_s):
        apart = {b - a for a in best.above_s for b in best.above_s if a != b}
        for step in sorted(apart, key=abs):
            tried = away_s - np.where(at_s > when, step, 0.0)
            found = find_places(at_s, tried, clear)
            if found.criterion < best.criterion - _GAIN:
                best, away_s, more[number] = found, tried, more[number] + step
                break
    return best, tuple(float(value) for value in more)


def _slant(x: NDArray[np.float64], away: NDArray[np.float64]) -> float:
    """Return the slope along which the windows' levels gather best, whatever their number."""
    span = float(np.ptp(x)) or 1.0
    tried = np.arange(-_SLANT_S, _SLANT_S + _STEP_S, _STEP_S) / span
    best, value = 0.0, -np.inf
    for slope in tried:
        gap = away - slope * x
        near = np.exp(-0.5 * ((gap[:, None] - gap[None, :]) / _BANDWIDTH_S) ** 2)
        gathered = float(np.log(near.sum(axis=1) - 1 + 0.05).sum())
        if gathered > value:
            best, value = float(slope), gathered
    return best


def _modes(gap: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return where levels gather, the most windows first."""
    grid = np.arange(gap.min() - 4 * _BANDWIDTH_S, gap.max() + 4 * _BANDWIDTH_S, _BANDWIDTH_S / 3)
    density = np.exp(-0.5 * ((grid[:, None] - gap[None, :]) / _BANDWIDTH_S) ** 2).sum(axis=1)
    top = (ndimage.maximum_filter1d(density, 7) == density) & (density > 1.5)
    index = np.flatnonzero(top)
    return np.asarray(grid[index[np.argsort(-density[index])]])


def _starts(modes: NDArray[np.float64], gap: NDArray[np.float64], count: int) -> list[NDArray[np.float64]]:
    """Return levels to begin with: where most windows gather, and each further place in turn."""
    if count == 1:
        return [np.array([float(np.median(gap))]), modes[:1]] if modes.size else [np.array([float(np.median(gap))])]
    if modes.size < count:
        return []
    first = modes[: count - 1]
    return [np.append(first, other) for other in modes[count - 1 : count + 3]]


def _mixture(
    x: NDArray[np.float64], away: NDArray[np.float64], start: NDArray[np.float64], slope: float
) -> _Mixture | None:
    """Fit levels with a common slope and scatter by expectation and maximisation; None where places fall together."""
    levels, scatter = start.astype(float).copy(), 2 * _BANDWIDTH_S
    count = levels.size
    shares = np.full(count + 1, 0.9 / count)
    shares[-1] = 0.1
    belongs = np.zeros((x.size, count + 1))
    loglik = -np.inf
    for _ in range(_ROUNDS):
        gap = away[:, None] - slope * x[:, None] - levels[None, :]
        density = np.exp(-0.5 * (gap / scatter) ** 2) / (scatter * np.sqrt(2 * np.pi))
        joint = np.concatenate([density * shares[:-1], np.full((x.size, 1), shares[-1] / _OUTLIERS_S)], axis=1)
        total = joint.sum(axis=1)
        belongs = joint / total[:, None]
        new = float(np.log(total).sum())
        if abs(new - loglik) < 1e-4:
            break
        loglik = new
        shares = np.maximum(belongs.mean(axis=0), 1e-3)
        shares /= shares.sum()
        weight = belongs[:, :-1]
        if (weight.sum(axis=0) < 1.0).any():
            return None
        # Levels and slope together: the levels are averages once the slope is known.
        mass = weight.sum(axis=0)
        centre_x, centre_y = (weight * x[:, None]).sum(axis=0) / mass, (weight * away[:, None]).sum(axis=0) / mass
        dx, dy = x[:, None] - centre_x, away[:, None] - centre_y
        spread = float((weight * dx**2).sum())
        # A short take cannot tell drift: a prior of ±300 ppm, as in the fit that follows.
        slope = float((weight * dx * dy).sum() / (spread + (scatter / 300e-6) ** 2))
        levels = centre_y - slope * centre_x
        left = away[:, None] - slope * x[:, None] - levels
        scatter = max(float(np.sqrt((weight * left**2).sum() / mass.sum())), _FLOOR_S)
    counts = np.bincount(np.argmax(belongs, axis=1), minlength=count + 1)[:-1]
    enough = np.maximum(_LEAST_WINDOWS, _LEAST_SHARE * x.size)
    apart = np.diff(np.sort(levels))
    if count > 1 and ((counts < enough).any() or (apart < max(LEAST_APART_S, _APART * scatter)).any()):
        return None
    free = 2 * count + 2
    return _Mixture(levels, slope, scatter, shares[:-1], belongs, -2 * loglik + free * float(np.log(x.size)))
