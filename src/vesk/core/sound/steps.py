"""Steps too small to be told from a slant at first sight: found in the windows' own timings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

MOST = 6
LEAST_STEP_S = 0.0006  # a person moving by 20 cm shifts sound as much: smaller steps are not called jumps
_GAIN = 40.0  # by how much a step must lower the sum of squares, in units of the windows' own scatter
_SIDE = 3  # windows that must speak on either side
_SHARP = 0.35  # of a step: the windows next to it may lie this far off their levels


def _fit(
    x: NDArray[np.float64], y: NDArray[np.float64], at: list[float]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    design = np.stack([np.ones(x.size), x - x.mean(), *(x > when for when in at)], axis=1)
    values, *_ = np.linalg.lstsq(design, y, rcond=None)
    return values, y - design @ values


def _cost(residual: NDArray[np.float64], scatter: float) -> float:
    """Sum squares in units of the scatter, each capped: a few wild windows decide nothing."""
    return float(np.minimum((residual / scatter) ** 2, 25.0).sum())


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
    Greedy: the step that lowers the capped sum of squares most is added while it lowers it by
    much. The scatter comes from neighbours' differences, which neither slope nor steps widen.
    """
    order = np.argsort(at_s)
    x, y = at_s[order], offsets_s[order]
    scatter = 1.4826 * float(np.median(np.abs(np.diff(y) - np.median(np.diff(y))))) / np.sqrt(2)
    scatter = max(scatter, 1e-6)
    chosen = [when for when in known if (x <= when).sum() >= _SIDE and (x > when).sum() >= _SIDE]
    middles = (x[:-1] + x[1:]) / 2
    _, residual = _fit(x, y, chosen)
    cost = _cost(residual, scatter)
    while len(chosen) < MOST:
        best: tuple[float, float] | None = None
        for when in middles[_SIDE - 1 : x.size - _SIDE]:
            if any(((x > min(when, other)) & (x <= max(when, other))).sum() < _SIDE for other in chosen):
                continue
            values, residual = _fit(x, y, [*chosen, float(when)])
            new = _cost(residual, scatter)
            if abs(float(values[-1])) >= LEAST_STEP_S and (best is None or new < best[0]):
                best = (new, float(when))
        if best is None or cost - best[0] < _GAIN or not _sharp(x, y, [*chosen, best[1]]):
            break
        cost = best[0]
        chosen.append(best[1])
    chosen.sort()
    values, _ = _fit(x, y, chosen)
    steps = [
        (float(x[x <= when][-1]), float(x[x > when][0]), float(step))
        for when, step in zip(chosen, values[2:], strict=True)
    ]
    return steps, float(values[0]), float(values[1])


def _sharp(x: NDArray[np.float64], y: NDArray[np.float64], at: list[float]) -> bool:
    """Say whether the last of the steps is one: the windows beside it already lie on their levels."""
    values, residual = _fit(x, y, at)
    step = abs(float(values[-1]))
    before, after = np.flatnonzero(x <= at[-1])[-_SIDE:], np.flatnonzero(x > at[-1])[:_SIDE]
    return all(float(np.median(np.abs(residual[side]))) < _SHARP * step for side in (before, after))
