"""A recording that jumped while people spoke in turn: everybody's level is moved by as much, at one moment.

One level before and another after may be two people. Two that are heard before, and two just as far apart after, are
the same two, and samples were lost between: nobody changes places with everybody.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound.verify import SPOKE
from vesk.core.sound.ways import LEAST_S

GRID_S = 1e-4  # from level to level: half of what a window allows either side
_PLACE_NATS = 12.0  # what one more level must explain
_GAIN_NATS = 20.0  # what a moment at which all levels move must explain beyond levels that stay
_MORE_NATS = 10.0  # the same, where something jumped for certain, and by how much is the question
_MOST_LEVELS, _ALIKE, _APART, _EVERY = 6, 2, 10, 2
_LEAST, _LEAST_SHARE = 4, 0.1  # windows in which somebody is heard on one side, and of those on that side
_LEAST_MOVED = 2  # levels


@dataclass(frozen=True, slots=True)
class Shift:
    """All levels move.

    Attributes
    ----------
    step_s : float
        By how much the offset grows, seconds; to `GRID_S`.
    before, after : int
        The last window that speaks before, and the first after.
    levels : tuple of int
        Rows of the levels before.
    """

    step_s: float
    before: int
    after: int
    levels: tuple[int, ...]


def find_shift(said: NDArray[np.float32], *, least: int = 1, most: int | None = None) -> Shift | None:
    """Find the moment at which all levels move at once.

    Parameters
    ----------
    said : ndarray of float32, shape (levels, windows)
        What every window says for levels `GRID_S` apart, nats: of unit exponential distribution by chance.
    least, most : int
        Which windows may be the first after it.

    Returns
    -------
    Shift or None
        None where levels that stay explain as much, or fewer than two are heard on both sides.
    """
    windows = said.shape[1]
    least, most = max(1, least), windows if most is None else min(most, windows)
    stay = _worth(said[_levels(said)])
    best: tuple[float, int, list[int], Shift] | None = None
    tried: set[tuple[int, ...]] = set()
    for after in range(max(_LEAST, least), min(windows - _LEAST, most) + 1, _EVERY):
        early, late = _levels(said[:, :after]), _levels(said[:, after:])
        for step in sorted({other - one for one in early for other in late}):
            levels = _merged([*early, *(level - step for level in late)])
            levels = [level for level in levels if level >= 0 and 0 <= level + step < said.shape[0] > level]
            if abs(step) * GRID_S < LEAST_S or (step, *levels) in tried or len(levels) < _LEAST_MOVED:
                continue
            if min(np.diff(levels)) < _APART:
                continue  # a microphone that sways is heard at levels side by side
            tried.add((step, *levels))  # each is laid at its own best moment
            found = _moment(said, levels, step, least, most)
            if found is not None and (best is None or found[0] > best[0]):
                best = found[0], step, levels, found[1]
    if best is None:
        return None
    worth, step, levels, shift = best
    for near in range(step - _ALIKE, step + _ALIKE + 1):  # from plateau to plateau a step is good to two of the grid
        inside = min(levels) + near >= 0 and max(levels) + near < said.shape[0]
        found = _moment(said, levels, near, least, most) if inside else None
        if found is not None and found[0] > worth:
            worth, shift = found
    known = most - least < windows - 1
    return shift if worth > stay + (_MORE_NATS if known else _GAIN_NATS) else None


def _moment(
    said: NDArray[np.float32], levels: list[int], step: int, least: int, most: int
) -> tuple[float, Shift] | None:
    """Return what is explained where these levels move by a step, at the moment that explains most, and that."""
    early, late = said[levels], said[[level + step for level in levels]]
    told = np.concatenate([[0.0], np.cumsum(early.max(axis=0) - late.max(axis=0))])
    after = least + int(np.argmax(told[least : most + 1]))
    moved = np.concatenate([early[:, :after], late[:, after:]], axis=1)
    kept = sorted(_levels(moved))  # those that chance lent one side pay for themselves no more
    levels, moved = [levels[n] for n in kept], moved[kept]
    if not kept or int((_heard(moved[:, :after]) & _heard(moved[:, after:])).sum()) < _LEAST_MOVED:
        return None
    spoke = np.flatnonzero(moved.max(axis=0) > SPOKE)
    before, first = spoke[spoke < after], spoke[spoke >= after]
    return _worth(moved) - _PLACE_NATS, Shift(step * GRID_S, int(before[-1]), int(first[0]), tuple(levels))


def _levels(said: NDArray[np.float32]) -> list[int]:
    """Return the rows that explain most, each at its price: the one that adds most, again and again."""
    best = np.zeros(said.shape[1], np.float32)
    levels: list[int] = []
    while len(levels) < _MOST_LEVELS:
        gains = np.maximum(said, best).sum(axis=1) - float(best.sum())
        level = int(np.argmax(gains))
        if float(gains[level]) < _PLACE_NATS:
            break
        levels.append(level)
        best = np.maximum(best, said[level])
    return levels


def _merged(levels: list[int]) -> list[int]:
    """Return rows with those that are one taken together."""
    made: list[int] = []
    for level in sorted(levels):
        if not made or level - made[-1] > _ALIKE:
            made.append(level)
    return made


def _worth(said: NDArray[np.float32]) -> float:
    """Return how many nats some levels explain, at their price and that of saying who speaks when."""
    if not said.shape[0]:
        return 0.0
    best = said.max(axis=0)
    who = float((best > SPOKE).sum()) * float(np.log(said.shape[0]))
    return float(best.sum() - who - _PLACE_NATS * said.shape[0])


def _heard(said: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Return which levels are heard, each by windows of its own."""
    best = np.where(said.max(axis=0) > SPOKE, np.argmax(said, axis=0), -1)
    least = max(_LEAST, _LEAST_SHARE * said.shape[1])
    return np.array([int((best == number).sum()) >= least for number in range(said.shape[0])])
