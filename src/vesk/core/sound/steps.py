"""Steps too small to be told from a slant at first sight: found in the windows' own timings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

MOST = 6  # beyond those known
LEAST_STEP_S = 0.0006  # a person moving by 20 cm shifts sound as much: smaller steps are not called jumps
_GAIN = 40.0  # by how much a step must lower the sum of squares, in units of the windows' own scatter
_SIDE = 3  # windows that must speak on either side
_RAMP_S = 12.0  # steps this near each other are one movement
_ROUNDS = 6
_BEND = 3.0  # units of scatter up to which a window counts in full
_AT_ONCE = 200_000  # windows times places that are tried at once
_SHARP = 0.25  # of a step: the windows next to it may lie this far off their levels


def _fit(
    x: NDArray[np.float64], y: NDArray[np.float64], at: list[float], scatter: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Fit level, slope and steps so that wild windows pull no harder than others (Huber's weights)."""
    values, residuals = _fit_each(x, y, at, np.zeros(1), scatter, more=False)
    return values[0], residuals[0]


def _fit_each(
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    at: list[float],
    tried: NDArray[np.float64],
    scatter: float,
    *,
    more: bool = True,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Fit as `_fit` does with one step more, for each place `tried` of it: (places, values), (places, windows)."""
    spread = float(x.std()) or 1.0  # so that all columns are of one size
    shared = np.stack([np.ones(x.size), (x - x.mean()) / spread, *(x > when for when in at)], axis=1)
    design = np.repeat(shared[None], tried.size, axis=0)
    if more:
        design = np.concatenate([design, (x > tried[:, None])[:, :, None]], axis=2)
    weight = np.ones((tried.size, x.size))
    values, residuals = np.zeros((tried.size, design.shape[2])), np.broadcast_to(y, weight.shape)
    for _ in range(_ROUNDS):
        weighted = design.transpose(0, 2, 1) * weight[:, None, :]
        # Two steps with no window between them are one: then the smaller values are taken, as by least squares.
        inverse = np.linalg.pinv(weighted @ design, rcond=1e-11, hermitian=True)
        values = (inverse @ (weighted @ y)[:, :, None])[:, :, 0]
        residuals = y - (design @ values[:, :, None])[:, :, 0]
        weight = 1 / np.maximum(np.abs(residuals) / scatter / _BEND, 1.0)
    values[:, 1] /= spread
    return values, residuals


def _cost(residual: NDArray[np.float64], scatter: float) -> NDArray[np.float64]:
    """Sum squares in units of the scatter, growing straight beyond the bend (Huber's loss), along the last axis."""
    size = np.abs(residual) / scatter
    return np.asarray(np.where(size <= _BEND, size**2, 2 * _BEND * size - _BEND**2).sum(axis=-1))


def find_steps(
    at_s: NDArray[np.float64], offsets_s: NDArray[np.float64], known: list[float]
) -> tuple[list[tuple[float, float, float]], float, float]:
    """Find steps in a trace: one slope, and a level that changes at a few places.

    Parameters
    ----------
    at_s, offsets_s : ndarray of float64, shape (windows,)
        Picture time and offset of windows that speak clearly, in order of time.
    known : list of float
        Where steps were found already, picture seconds.

    Returns
    -------
    steps : list of (before_s, after_s, step_s)
        The windows it lies between, and by how much the offset grows; in order of time.
    level_s, slope : float
        Of the line before the first step, at the windows' mean time.

    Notes
    -----
    Greedy: the step that lowers the loss most is added while it lowers it by much; what is no
    sharp step is dropped in the end. The scatter comes from neighbours' differences, which neither
    slope nor steps widen.
    """
    order = np.argsort(at_s)
    x, y = at_s[order], offsets_s[order]
    scatter = 1.4826 * float(np.median(np.abs(np.diff(y) - np.median(np.diff(y))))) / np.sqrt(2)
    scatter = max(scatter, 1e-6)
    chosen = [when for when in known if (x <= when).sum() >= _SIDE and (x > when).sum() >= _SIDE]
    middles = (x[:-1] + x[1:]) / 2
    _, residual = _fit(x, y, chosen, scatter)
    cost = float(_cost(residual, scatter))
    while len(chosen) < len(known) + MOST:
        best: tuple[float, float] | None = None
        tried = middles[_SIDE - 1 : x.size - _SIDE]
        left = np.searchsorted(x, tried, side="right")  # windows before
        apart = np.abs(left[:, None] - np.searchsorted(x, chosen, side="right"))
        tried = tried[(apart >= _SIDE).all(axis=1)]
        at_once = max(1, _AT_ONCE // x.size)
        for part in (tried[n : n + at_once] for n in range(0, tried.size, at_once)):
            values, residuals = _fit_each(x, y, chosen, part, scatter)
            costs = np.where(np.abs(values[:, -1]) >= LEAST_STEP_S, _cost(residuals, scatter), np.inf)
            least = int(np.argmin(costs))
            if costs[least] < (np.inf if best is None else best[0]):
                best = (float(costs[least]), float(part[least]))
        if best is None or cost - best[0] < _GAIN:
            break
        cost = best[0]
        chosen.append(best[1])
    # A walk looks like several small steps: none of them is sharp.
    chosen = [when for when in sorted(chosen) if when in known or _sharp(x, y, chosen, when, scatter)]
    values, _ = _fit(x, y, chosen, scatter)
    steps = [
        (float(x[x <= when][-1]), float(x[x > when][0]), float(step))
        for when, step in zip(chosen, values[2:], strict=True)
    ]
    return steps, float(values[0]), float(values[1])


def _sharp(x: NDArray[np.float64], y: NDArray[np.float64], at: list[float], when: float, scatter: float) -> bool:
    """Say whether a step is one: without it, the windows beside it lie on two levels, not on a ramp."""
    others = [other for other in at if abs(other - when) > _RAMP_S]
    values, residual = _fit(x, y, [*others, when], scatter)
    step = abs(float(values[-1]))
    before, after = np.flatnonzero(x <= when)[-_SIDE:], np.flatnonzero(x > when)[:_SIDE]
    near = all(float(np.median(np.abs(residual[side]))) < _SHARP * step for side in (before, after))
    return near and step >= LEAST_STEP_S
