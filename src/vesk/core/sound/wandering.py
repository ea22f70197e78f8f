"""A clock whose rate wanders inside a take: as curved as the windows ask, and no more."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vesk.core.clocks.wander import WITHIN_A_TAKE, find_curve
from vesk.core.sound.fine import STANDING_S
from vesk.core.sound.measurement import Line

_LEAST_WINDOWS = 24
_GAIN_NATS = 6.0
_FURTHEST_PPM = 25.0  # a crystal bends no more within a take; whoever sways does
_LEAST_S = 4e-6
_WILD = 5.0  # units of scatter off its neighbours
_TURNS = 0.7  # of how far windows lie from the nearest place: neighbours scatter less along a curve
_BESIDE = 4
_SMOOTH = 0.85  # of the windows
_KNOTS, _KNOTS_A_RATE = 64, 3
_TOGETHER, _FORETOLD_NATS = 2, 5.0  # neighbours overlap: they are told by others


def with_wander(
    line: Line,
    at_s: NDArray[np.float64],
    away_s: NDArray[np.float64],
    clear: NDArray[np.bool_],
    ends_s: tuple[float, float],
) -> Line:
    """Return a line with its bends, where the windows' timings follow a curve that a clock could take.

    Parameters
    ----------
    line : Line
        Straight, without jumps.
    at_s, away_s : ndarray of float64, shape (windows,)
        Picture times, and how far each window lies off the line, seconds.
    clear : ndarray of bool, shape (windows,)
        Which of them mean something.
    ends_s : tuple of float
        Picture times from and to which the line is wanted, seconds.

    Returns
    -------
    Line
        Of a curve too sharp for a clock, the line itself, as uncertain as that makes it. Places that are steps of one
        curve are none.
    """
    at, away = at_s[clear], away_s[clear]
    if at.size < _LEAST_WINDOWS or line.jumps:
        return line
    # A voice from elsewhere is no wander.
    near = _between_neighbours(away)
    scatter = max(1.4826 * float(np.median(np.abs(away - near))), 2e-7)
    kept = np.abs(away - near) < _WILD * scatter
    at, away = at[kept], away[kept]
    levels = np.array([later for later, _ in line.places] or [np.inf])
    strays = 1.4826 * float(np.median(np.abs(away[:, None] - levels).min(axis=1)))
    if at.size < _LEAST_WINDOWS or kept.mean() < _SMOOTH or scatter > _TURNS * strays:
        return line  # who speaks in turn is heard at one level and the other, not along a curve
    sigma = np.full(at.size, scatter)
    curve = find_curve(at.tolist(), away.tolist(), sigma.tolist(), wander=WITHIN_A_TAKE, gain_nats=_GAIN_NATS)
    if curve is None or not _foretells(at, away, scatter):
        return line
    # To the ends: a straight line from the first window that is clear on may be ten standard errors off there.
    grid = np.linspace(min(ends_s[0], at[0]), max(ends_s[1], at[-1]), min(_KNOTS, at.size))
    mean, variance = (np.array(values) for values in zip(*(curve.at(float(when)) for when in grid), strict=True))
    x = grid - line.middle_s
    slope, level = (float(value) for value in np.polyfit(x, mean, 1))
    bent = mean - level - slope * x
    if float(np.abs(bent).max()) < _LEAST_S:
        return line
    error = np.sqrt(np.maximum(variance, 0.0))
    rates = np.diff(mean[::_KNOTS_A_RATE]) / np.diff(grid[::_KNOTS_A_RATE])
    span = float(grid[-1] - grid[0])
    se_rate = float(np.hypot(error[0], error[-1])) / span
    if float(np.ptp(rates)) * 1e6 > _FURTHEST_PPM:
        # No clock: the line stays, and says how far about it the sound is heard.
        wider = float(np.sqrt(np.mean(bent**2)))
        return line.wider(wider)
    return replace(
        line, at_middle_s=line.at_middle_s + level, ppm=line.ppm - slope * 1e6,
        se_middle_s=STANDING_S, se_ppm=se_rate * 1e6, covariance=(), places=(),
        bends=tuple((float(a), float(b), float(e)) for a, b, e in zip(grid, bent, error, strict=True)),
    )  # fmt: skip


def _foretells(at: NDArray[np.float64], away: NDArray[np.float64], scatter: float) -> bool:
    """Say whether curves through half of the windows tell the others better than lines do: strays bend no clock."""
    own = np.arange(at.size) // _TOGETHER % 2 == 0
    nats = 0.0
    for half in (own, ~own):
        sigma = np.full(int(half.sum()), scatter)
        curve = find_curve(at[half].tolist(), away[half].tolist(), sigma.tolist(), wander=WITHIN_A_TAKE, gain_nats=0.0)
        if curve is None:
            continue
        line = np.polynomial.Polynomial.fit(at[half], away[half], 1)
        bent = np.array([curve.at(float(when))[0] for when in at[~half]])
        nats += float(
            (_surprise(away[~half] - line(at[~half]), scatter) - _surprise(away[~half] - bent, scatter)).sum()
        )
    return nats > _FORETOLD_NATS


def _surprise(off: NDArray[np.float64], scatter: float) -> NDArray[np.float64]:
    """Return how surprising deviations are, in nats, where some are strays: Student's t of four degrees."""
    return np.asarray(2.5 * np.log1p((off / scatter) ** 2 / 4))


def _between_neighbours(away: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return where each window's neighbours to either side lay it, whatever slope they lie on."""
    steps = np.arange(1, _BESIDE + 1)[:, None]
    own = np.arange(away.size)
    near = np.median((away[(own - steps) % own.size] + away[(own + steps) % own.size]) / 2, axis=0)
    # At either end from the one side that there is: a stray there has nobody beyond it.
    for ends, inward in ((own[:_BESIDE], steps), (own[-_BESIDE:], -steps)):
        near[ends] = np.median(2 * away[ends + inward] - away[ends + 2 * inward], axis=0)
    return np.asarray(near)
