"""How likely claps seen are: fitted on made moments with and without a clap, and tried on others.

Prints the weights of `core/picture/closure.py`, and how often what it calls so likely is right: on other moments of the
same kinds, and on each kind by weights that were fitted without it.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.picture.closure import candidates, find_closure
from vesk.simulator.slates import HARDER, KINDS, WITHOUT, moment, slate

_EDGES = (0.0, 0.1, 0.3, 0.5, 0.7, 0.85, 0.95, 1.001)
_ALIKE = 1.0  # how much weights are held small
Moment = tuple[str, int, NDArray[np.float64], NDArray[np.bool_]]  # kind, which, signs of candidates, right ones


def main(scale: float) -> None:
    """Fit, and try; `scale` 1 takes some two minutes."""
    fitted, tried = made(1000, max(10, round(80 * scale))), made(9000, max(10, round(80 * scale)))
    fit = fit_of(fitted)
    print(f"\nfitted on {len(fitted)} moments: mean, deviation, weight of each sign, and the constant")
    for mean, deviation, weight in zip(*fit, strict=False):
        print(f"    ({mean:.3f}, {deviation:.3f}, {weight:.2f}),")
    print(f"    {fit[2][-1]:.2f}")
    told("other moments of all kinds", [best(one, fit) for one in tried])
    left_out = []
    for kind in {one[0] for one in tried}:
        without = fit_of([one for one in fitted if one[0] != kind])
        left_out += [best(one, without) for one in tried if one[0] == kind]
    told("each kind by weights fitted without it", left_out)
    print("\nas the product has it: right, mean of what it says, said 0.8 or more, of these wrong")
    for kind in (*KINDS, *HARDER, *WITHOUT):
        own = [said(kind, number) for number in range(9000, 9000 + max(10, round(80 * scale)))]
        sure = [right for likely, right in own if likely >= 0.8]
        right, mean = sum(right for _, right in own), np.mean([likely for likely, _ in own])
        print(f"  {kind:16} {right:3} of {len(own)}   {mean:.2f}   {len(sure):3}   {len(sure) - sum(sure)}")


def made(first: int, count: int) -> list[Moment]:
    """Make moments of every kind, and look at what stops in each."""
    found: list[Moment] = []
    for kind in (*KINDS, *HARDER, *WITHOUT):
        for number in range(first, first + count):
            frames, closed = (moment(kind, number), -9) if kind in WITHOUT else slate(kind, number)
            those = candidates(frames)
            near = 1 if kind == "blurred" else 0
            right = np.array([abs(k - closed) <= near for k, _ in those], bool)
            found.append((kind, number, np.array([signs for _, signs in those]), right))
    return found


def fit_of(moments: list[Moment]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Fit weights by logistic regression (Newton's method): means, deviations, weights with the constant last."""
    signs = np.concatenate([one[2] for one in moments if one[2].size])
    right = np.concatenate([one[3] for one in moments if one[2].size]).astype(float)
    mean, deviation = signs.mean(axis=0), signs.std(axis=0)
    known = np.c_[(signs - mean) / deviation, np.ones(len(signs))]
    weights, held = np.zeros(known.shape[1]), np.r_[np.full(known.shape[1] - 1, _ALIKE), 1e-9]
    for _ in range(40):
        likely = 1 / (1 + np.exp(-known @ weights))
        slope = known.T @ (likely - right) + held * weights
        weights -= np.linalg.solve((known * (likely * (1 - likely))[:, None]).T @ known + np.diag(held), slope)
    return mean, deviation, weights


def best(one: Moment, fit: tuple[NDArray[np.float64], ...]) -> tuple[float, bool]:
    """Return how likely the likeliest candidate of a moment is, and whether it is right."""
    if not one[2].size:
        return 0.0, False
    likely = 1 / (1 + np.exp(-np.c_[(one[2] - fit[0]) / fit[1], np.ones(len(one[2]))] @ fit[2]))
    at = int(np.argmax(likely))
    return float(likely[at]), bool(one[3][at])


def said(kind: str, number: int) -> tuple[float, bool]:
    """Return how likely the product calls what it proposes, and whether it is right."""
    frames, closed = (moment(kind, number), -9) if kind in WITHOUT else slate(kind, number)
    found = find_closure(frames)
    if found is None:
        return 0.0, False
    return found.likely, abs(found.frame - closed) <= (1 if kind == "blurred" else 0)


def told(name: str, found: list[tuple[float, bool]]) -> None:
    """Print how often what was called so likely is right."""
    likely, right = np.array([one for one, _ in found]), np.array([one for _, one in found])
    print(f"\n{name}: called, on average, right, of")
    for low, high in pairwise(_EDGES):
        own = (likely >= low) & (likely < high)
        if own.any():
            print(
                f"  {low:.2f} to {min(high, 1):.2f}   {likely[own].mean():.3f}   {right[own].mean():.3f}   {own.sum()}"
            )
