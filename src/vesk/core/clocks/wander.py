"""A clock whose rate wanders with the temperature: the smooth curve that measurements allow, and how sure it is.

Offset and rate are a state that is driven by white noise on the rate (an integrated random walk), smoothed forward and
back (Rauch, Tung, Striebel 1965). How much the rate wanders is chosen by likelihood, and nothing is where a straight
line explains as much.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

_HOUR = 3600.0
OVER_A_DAY = (0.1, 0.2, 0.4, 0.8, 1.6, 3.2)  # ppm in the root of an hour
WITHIN_A_TAKE = (1.0, 4.0, 16.0, 64.0)
_SCALES = (1.0, 1.4, 2.0)
_GAIN_NATS = 0.3  # that a curve must explain beyond a line
_ANEW_NATS = 6.0  # that a jam must explain beyond a curve
_RATE_PRIOR = 30e-6
_LEAST = 6  # measurements that a curve rests on


@dataclass(frozen=True, slots=True)
class Knot:
    """The state at one time.

    Attributes
    ----------
    at_s, ahead_s, rate : float
        Label time, offset (seconds) and rate (seconds a second).
    covariance : tuple of float
        Variance of the offset, covariance, variance of the rate.
    """

    at_s: float
    ahead_s: float
    rate: float
    covariance: tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Curve:
    """Knots in the order of time, and the spectral density of what drives the rate (seconds of rate squared a second).

    Between knots the mean is the cubic through both states, and the variance that of a bridge between them.
    """

    knots: tuple[Knot, ...]
    density: float

    def at(self, label_s: float) -> tuple[float, float]:
        """Return the offset and its variance at a label time, seconds.

        Parameters
        ----------
        label_s : float
            Seconds.
        """
        first, last = self.knots[0], self.knots[-1]
        if label_s <= first.at_s or label_s >= last.at_s:
            knot = first if label_s <= first.at_s else last
            away = label_s - knot.at_s
            level, both, slope = knot.covariance
            spread = level + 2 * both * away + slope * away**2 + self.density * abs(away) ** 3 / 3
            return knot.ahead_s + knot.rate * away, spread
        index = int(np.searchsorted([knot.at_s for knot in self.knots], label_s, side="right")) - 1
        one, other = self.knots[index], self.knots[index + 1]
        span = other.at_s - one.at_s
        u = (label_s - one.at_s) / span
        mean = (
            (1 + 2 * u) * (1 - u) ** 2 * one.ahead_s
            + u * (1 - u) ** 2 * span * one.rate
            + u**2 * (3 - 2 * u) * other.ahead_s
            + u**2 * (u - 1) * span * other.rate
        )
        bridge = self.density * span**3 * (u * (1 - u)) ** 3 / 3
        return mean, (1 - u) * one.covariance[0] + u * other.covariance[0] + bridge


def find_curve(
    at_s: Sequence[float],
    ahead_s: Sequence[float],
    sigma_s: Sequence[float],
    *,
    wander: Sequence[float] = OVER_A_DAY,
    gain_nats: float = _GAIN_NATS,
) -> Curve | None:
    """Return the curve of a clock; None where a straight line explains it as well.

    Parameters
    ----------
    at_s, ahead_s, sigma_s : sequence of float
        Label times in order, offsets, and the standard deviation of each: seconds.
    wander : sequence of float
        How much a rate may wander, ppm in the root of an hour.
    gain_nats : float
        What a curve must explain beyond a line.
    """
    at, ahead, sigma = (np.asarray(values, float) for values in (at_s, ahead_s, sigma_s))
    if at.size < _LEAST:
        return None
    found = _likeliest(at, ahead, sigma, wander, gain_nats)
    if found.density == 0.0:
        return None
    return Curve(_smoothed(at, ahead, sigma * found.scale, found.density), found.density)


def is_one(
    before: tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]],
    after: tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]],
) -> bool:
    """Say whether a clock went on from one stretch to the next, bending, rather than being set anew between them.

    Parameters
    ----------
    before, after : three arrays
        Label times in order, offsets, standard deviations: seconds.
    """
    at, ahead, sigma = (np.concatenate(values) for values in zip(before, after, strict=True))
    apart = _likeliest(*before).nats + _likeliest(*after).nats
    return _likeliest(at, ahead, sigma).nats > apart - _ANEW_NATS


@dataclass(frozen=True, slots=True)
class _Likeliest:
    nats: float
    density: float
    scale: float


def _likeliest(
    at: NDArray[np.float64],
    ahead: NDArray[np.float64],
    sigma: NDArray[np.float64],
    wander: Sequence[float] = OVER_A_DAY,
    gain_nats: float = _GAIN_NATS,
) -> _Likeliest:
    """Return by how much a clock wandered, most likely; by nothing where that says as much."""
    # The scatter of few is known roughly: what looks like wander may be that.
    densities = np.repeat([0.0, *((ppm * 1e-6) ** 2 / _HOUR for ppm in wander)], len(_SCALES))
    scales = np.tile(_SCALES, densities.size // len(_SCALES))
    nats = _log_likelihoods(at, ahead, sigma, densities, scales) - np.where(densities > 0, gain_nats, 0.0)
    best = int(np.argmax(nats))
    return _Likeliest(float(nats[best]), float(densities[best]), float(scales[best]))


def _log_likelihoods(
    at: NDArray[np.float64],
    ahead: NDArray[np.float64],
    sigma: NDArray[np.float64],
    densities: NDArray[np.float64],
    scales: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Run the filter for many densities and scales of the errors at once: the log-likelihood of each."""
    rates, offset = np.zeros(scales.size), np.full(scales.size, ahead[0])
    level, both, slope = (sigma[0] * scales) ** 2, np.zeros(scales.size), np.full(scales.size, _RATE_PRIOR**2)
    total = np.zeros(scales.size)
    for number in range(1, at.size):
        span = float(at[number] - at[number - 1])
        offset = offset + span * rates
        level = level + 2 * span * both + span**2 * slope + densities * (span**3 / 3)
        both = both + span * slope + densities * (span**2 / 2)
        slope = slope + densities * span
        variance = level + (sigma[number] * scales) ** 2
        off = ahead[number] - offset
        total -= 0.5 * (off**2 / variance + np.log(variance))
        by_level, by_slope = level / variance, both / variance
        offset, rates = offset + by_level * off, rates + by_slope * off
        level, both, slope = level - by_level * level, both - by_level * both, slope - by_slope * both
    return total


_Matrix = NDArray[np.float64]


def _step(span: float, density: float) -> tuple[_Matrix, _Matrix]:
    move = np.array([[1.0, span], [0.0, 1.0]])
    noise = density * np.array([[span**3 / 3, span**2 / 2], [span**2 / 2, span]])
    return move, noise


def _filtered(
    at: NDArray[np.float64], ahead: NDArray[np.float64], sigma: NDArray[np.float64], density: float
) -> tuple[list[tuple[_Matrix, _Matrix]], list[tuple[_Matrix, _Matrix]]]:
    """Run the filter: states as predicted and as updated."""
    # The first one only says where it all is; reckoned from no knowledge, its error would round to none.
    state, spread = np.array([ahead[0], 0.0]), np.diag([float(sigma[0]) ** 2, _RATE_PRIOR**2])
    before, after = [(state, spread)], [(state, spread)]
    for number in range(1, at.size):
        move, noise = _step(float(at[number] - at[number - 1]), density)
        state, spread = move @ state, move @ spread @ move.T + noise
        before.append((state, spread))
        variance = float(spread[0, 0] + sigma[number] ** 2)
        off = float(ahead[number] - state[0])
        gain = spread[:, 0] / variance
        state, spread = state + gain * off, spread - np.outer(gain, spread[0])
        after.append((state, spread))
    return before, after


def _smoothed(
    at: NDArray[np.float64], ahead: NDArray[np.float64], sigma: NDArray[np.float64], density: float
) -> tuple[Knot, ...]:
    before, after = _filtered(at, ahead, sigma, density)
    state, spread = after[-1]
    made = [(state, spread)]
    for number in range(at.size - 2, -1, -1):
        move, _ = _step(float(at[number + 1] - at[number]), density)
        own, own_spread = after[number]
        predicted, predicted_spread = before[number + 1]
        back = own_spread @ move.T @ np.linalg.inv(predicted_spread)
        state = own + back @ (state - predicted)
        spread = own_spread + back @ (spread - predicted_spread) @ back.T
        made.append((state, spread))
    return tuple(
        Knot(float(when), float(own[0]), float(own[1]), (float(p[0, 0]), float(p[0, 1]), float(p[1, 1])))
        for when, (own, p) in zip(at, reversed(made), strict=True)
    )
