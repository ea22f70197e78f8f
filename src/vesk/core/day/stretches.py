"""How a device's clock went over the day: straight stretches between jams, found among measurements some of which lie.

Every pairing measures how far two clocks are apart at one time. Along a stretch these lie on a line; at a jam or a
power cycle the line breaks. Single measurements that lie elsewhere (a wrong match, another distance, a label mistyped)
bend nothing: each costs at most as much as five and a half standard
deviations.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from math import log

import numpy as np
from numpy.typing import NDArray

from vesk.core.clocks.wander import Curve, find_curve, is_one

_CAP = 30.0  # of a squared deviation in standard deviations: that one measurement lies costs 15 nats, no more
_LEAST_SCATTER_S = 5e-4  # 17 cm nearer or further from one take to the next
_RATE_PRIOR = 30e-6  # crystals are good to some tens of ppm: what one stretch of an hour cannot tell
_UNSEEN = (0.15e-6) ** 2 / 3600 / 400  # of the cube of a stretch's length: 0.15 ppm a root of an hour, about its line
_QUANTILE, _OF_NORMAL = 0.45, 0.6
_STEPS = 8
_JAM_NATS = 21.0  # what a break must explain beyond the line without it: more than one lie, less than two alike
_COARSE = 16  # cuts that are tried before it is looked closer
_SHORT = 5  # measurements: a longer stretch between two breaks was one
_LEAST_AFTER = 2  # measurements that a stretch rests on: a single one cannot be told from an outlier


@dataclass(frozen=True, slots=True)
class Stretch:
    """A straight stretch of a clock.

    Attributes
    ----------
    since_s, until_s : float
        Label times of its first and last measurement, seconds.
    middle_s : float
        Label time about which the line turns.
    ahead_s : float
        How far the clock is ahead of the day's reference there, seconds.
    rate : float
        By how much more it gets ahead in each second.
    scatter_s : float
        Standard deviation of one measurement about the line.
    covariance : tuple of float
        Variance of `ahead_s`, covariance, variance of `rate`.
    members : tuple of int
        Indices of the measurements that it rests on.
    curve : Curve or None
        How it went where its rate wandered; None where it is straight.
    """

    since_s: float
    until_s: float
    middle_s: float
    ahead_s: float
    rate: float
    scatter_s: float
    covariance: tuple[float, float, float]
    members: tuple[int, ...]
    curve: Curve | None = None

    def ahead_at(self, label_s: float) -> float:
        """Return how far ahead the clock is at a label time, seconds.

        Parameters
        ----------
        label_s : float
            Seconds.
        """
        if self.curve is not None:
            return self.curve.at(label_s)[0]
        return self.ahead_s + self.rate * (label_s - self.middle_s)

    def error_at(self, label_s: float) -> float:
        """Return the standard error of the line at a label time, seconds.

        Parameters
        ----------
        label_s : float
            Seconds.
        """
        if self.curve is not None:
            return float(max(0.0, self.curve.at(label_s)[1]) ** 0.5)
        away = label_s - self.middle_s
        level, both, slope = self.covariance
        unseen = _UNSEEN * (self.until_s - self.since_s) ** 3  # what wander too small to be seen may hide
        return float(max(0.0, level + 2 * both * away + slope * away**2 + unseen) ** 0.5)


def find_stretches(at_s: Sequence[float], ahead_s: Sequence[float], se_s: Sequence[float]) -> list[Stretch]:
    """Find the straight stretches of a clock.

    Parameters
    ----------
    at_s, ahead_s, se_s : sequence of float
        When it was measured (label time), how far ahead it was then, and the standard error: seconds.

    Returns
    -------
    list of Stretch
        In the order of time; empty without measurements.
    """
    return list(_found(tuple(at_s), tuple(ahead_s), tuple(se_s)))


@lru_cache(maxsize=64)  # a day is solved again for each thing that changes; most of its clocks are as they were
def _found(at_s: tuple[float, ...], ahead_s: tuple[float, ...], se_s: tuple[float, ...]) -> tuple[Stretch, ...]:
    at, ahead, se = (np.asarray(values, float) for values in (at_s, ahead_s, se_s))
    if not at.size:
        return ()
    order = np.argsort(at, kind="stable")
    at, ahead, se = at[order], ahead[order], se[order]
    sigma = np.hypot(se, _scatter(at, ahead))
    edges = _with_one_cut(at, ahead, sigma, _split(at, ahead, sigma, 0, at.size))
    straight = [_stretch(at, ahead, sigma, order, low, high) for low, high in edges]
    place = {int(n): rank for rank, n in enumerate(order)}
    ranked = [(one, np.array(sorted(place[n] for n in one.members))) for one in straight]
    made = []
    for group in _continuous(at, ahead, sigma, ranked):
        used = np.concatenate([own for _, own in group])
        curve = find_curve(at[used], ahead[used], sigma[used])
        if curve is None:
            made += [one for one, _ in group]
            continue
        first, last = group[0][0], group[-1][0]
        low, high = np.searchsorted(at, first.since_s), np.searchsorted(at, last.until_s, side="right")
        whole = _stretch(at, ahead, sigma, order, int(low), int(high))
        off = ahead[used] - np.array([curve.at(float(when))[0] for when in at[used]])
        scatter = max(_LEAST_SCATTER_S, float(np.sqrt((off**2).mean())))
        made.append(replace(whole, scatter_s=scatter, members=tuple(int(n) for n in order[used]), curve=curve))
    return tuple(made)


def _continuous(
    at: NDArray[np.float64],
    ahead: NDArray[np.float64],
    sigma: NDArray[np.float64],
    straight: list[tuple[Stretch, NDArray[np.int64]]],
) -> list[list[tuple[Stretch, NDArray[np.int64]]]]:
    """Put stretches together that are one: a clock that was set anew jumps, one that grows warm bends."""
    groups = [[straight[0]]]
    for one in straight[1:]:
        so_far = np.concatenate([used for _, used in groups[-1]])
        two = [(at[used], ahead[used], sigma[used]) for used in (so_far, one[1])]
        if is_one(two[0], two[1]):
            groups[-1].append(one)
        else:
            groups.append([one])
    return groups


def _scatter(at: NDArray[np.float64], ahead: NDArray[np.float64]) -> float:
    """Return the scatter of single measurements: steps and drift make few large differences, scatter many small."""
    if at.size < 3:
        return _LEAST_SCATTER_S * 2
    # Of three neighbours in time, how far the middle one lies off the line through the others.
    left, right = at[1:-1] - at[:-2], at[2:] - at[1:-1]
    whole = np.maximum(left + right, 1e-9)
    off = ahead[1:-1] - (ahead[:-2] * right + ahead[2:] * left) / whole
    off /= np.sqrt(1 + (right / whole) ** 2 + (left / whole) ** 2)
    # One that lies spoils three: of few, the median would be one of those.
    return max(_LEAST_SCATTER_S, float(np.quantile(np.abs(off), _QUANTILE, method="lower")) / _OF_NORMAL)


@dataclass(frozen=True, slots=True)
class _Fit:
    middle: float
    level: float
    rate: float
    cost: float
    off: NDArray[np.float64]


def _fit(at: NDArray[np.float64], ahead: NDArray[np.float64], sigma: NDArray[np.float64]) -> _Fit:
    """Fit a line so that its capped squared deviations are least, from the level and slope that most agree with."""
    middle = float(np.median(at))
    away = at - middle
    weight = 1 / sigma**2
    best: _Fit | None = None
    for rate in _slopes(at, ahead):
        level = float(np.median(ahead - rate * away))
        slope = rate
        for _ in range(_STEPS):
            off = (ahead - level - slope * away) / sigma
            used = weight * (off**2 < _CAP)
            if not used.any():
                break
            s0, s1, s2 = used.sum(), (used * away).sum(), (used * away**2).sum() + _RATE_PRIOR**-2
            t0, t1 = (used * ahead).sum(), (used * away * ahead).sum()
            down = s0 * s2 - s1 * s1
            level, slope = float((s2 * t0 - s1 * t1) / down), float((s0 * t1 - s1 * t0) / down)
        off = (ahead - level - slope * away) / sigma
        cost = float(np.minimum(off**2, _CAP).sum() + (slope / _RATE_PRIOR) ** 2) / 2
        if best is None or cost < best.cost:
            best = _Fit(middle, level, slope, cost, off)
    assert best is not None  # noqa: S101 - there is always a slope to try
    return best


def _slopes(at: NDArray[np.float64], ahead: NDArray[np.float64]) -> list[float]:
    """Return slopes to begin with: none, and the median one between measurements half the stretch apart."""
    half = at.size // 2
    if half < 1:
        return [0.0]
    apart = at[half:] - at[: at.size - half]
    known = apart > 1.0
    if not known.any():
        return [0.0]
    slopes = (ahead[half:] - ahead[: at.size - half])[known] / apart[known]
    return [0.0, float(np.median(slopes))]


def _split(
    at: NDArray[np.float64], ahead: NDArray[np.float64], sigma: NDArray[np.float64], low: int, high: int
) -> list[tuple[int, int]]:
    """Split measurements into stretches, where that explains clearly more; each as it would be by itself."""
    own = slice(low, high)
    whole = _fit(at[own], ahead[own], sigma[own])
    count = high - low
    if count < 2 * _LEAST_AFTER or whole.cost < _JAM_NATS:
        return [(low, high)]
    price = _JAM_NATS + log(count)
    costs: dict[int, float] = {}

    def cheapest(cuts: range) -> int:
        for cut in cuts:
            if cut not in costs:
                left, right = slice(low, cut), slice(cut, high)
                costs[cut] = (
                    _fit(at[left], ahead[left], sigma[left]).cost + _fit(at[right], ahead[right], sigma[right]).cost
                )
        return min(costs, key=lambda cut: (costs[cut], cut))

    first, last = low + _LEAST_AFTER, high - _LEAST_AFTER
    step = -(-count // _COARSE)
    about = cheapest(range(first, last + 1, step))
    where = cheapest(range(max(first, about - step), min(last, about + step) + 1))
    if costs[where] >= whole.cost - price:
        return [(low, high)]
    return _split(at, ahead, sigma, low, where) + _split(at, ahead, sigma, where, high)


def _with_one_cut(
    at: NDArray[np.float64], ahead: NDArray[np.float64], sigma: NDArray[np.float64], edges: list[tuple[int, int]]
) -> list[tuple[int, int]]:
    """Take a short stretch apart where one cut within it explains as much as both at its ends.

    A curve is split before the jam beside it is, and what is left between two cuts may lie on both sides of that jam.
    """

    def cost(low: int, high: int) -> float:
        return _fit(at[low:high], ahead[low:high], sigma[low:high]).cost

    price = _JAM_NATS + log(max(1, at.size))
    place = 1
    while place < len(edges) - 1:
        (low, begin), (_, end), (_, high) = edges[place - 1 : place + 2]
        if end - begin <= _SHORT:
            one = {cut: cost(low, cut) + cost(cut, high) for cut in range(begin, end + 1)}
            where = min(one, key=lambda cut: one[cut])
            if one[where] < cost(low, begin) + cost(begin, end) + cost(end, high) + price:
                edges = [*edges[: place - 1], (low, where), (where, high), *edges[place + 2 :]]
                place = max(1, place - 1)
                continue
        place += 1
    return edges


def _stretch(
    at: NDArray[np.float64],
    ahead: NDArray[np.float64],
    sigma: NDArray[np.float64],
    order: NDArray[np.int64],
    low: int,
    high: int,
) -> Stretch:
    own = slice(low, high)
    fit = _fit(at[own], ahead[own], sigma[own])
    # Where no two agree, the nearest is all there is.
    used = fit.off**2 < max(_CAP, float((fit.off**2).min()) * (1 + 1e-9) + 1e-12)
    away = at[own][used] - fit.middle
    weight = 1 / sigma[own][used] ** 2
    s0, s1, s2 = weight.sum(), (weight * away).sum(), (weight * away**2).sum() + _RATE_PRIOR**-2
    down = s0 * s2 - s1 * s1
    off = (ahead[own] - fit.level - fit.rate * (at[own] - fit.middle))[used]
    scatter = float(np.sqrt((off**2).sum() / max(1, off.size - 2))) if off.size > 2 else float(sigma[own].max())
    # The scatter that neighbours tell is of few: where the line leaves more, that counts.
    wider = max(1.0, float((weight * off**2).sum()) / (off.size - 2)) if off.size > 3 else 1.0
    return Stretch(
        float(at[low]), float(at[high - 1]), fit.middle, fit.level, fit.rate, max(_LEAST_SCATTER_S, scatter),
        (float(wider * s2 / down), float(-wider * s1 / down), float(wider * s0 / down)),
        tuple(int(n) for n in order[own][used]),
    )  # fmt: skip
