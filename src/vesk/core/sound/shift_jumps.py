"""Jumps told by everybody's level: what a shift of all levels is as jumps of the recording, placed and sharpened."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound import fine, jumps
from vesk.core.sound.fitting import Fitted, fit_places
from vesk.core.sound.follow import REACH_S, Followed
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Jump
from vesk.core.sound.shifts import GRID_S, Shift, find_shift
from vesk.core.sound.verify import SPOKE
from vesk.core.sound.ways import Standing
from vesk.core.sound.windows import WINDOW_S, Stretch

FLOOR_S = 1e-4  # the error of a step that two levels tell
_AT_LEVELS, _AT_S = 0.7, 3e-4
_AROUND = round(1.3 * REACH_S / GRID_S)  # levels to either side in which people are looked for


def jumps_of_shifts(
    picture: Hearing, sound: Hearing, base: fine.Path, followed: Followed, standing: Standing, far: list[Jump]
) -> list[Jump] | None:
    """Return the jumps that everybody's level tells, in the place of those known so far.

    Parameters
    ----------
    picture, sound : Hearing
    base : Path
        About which the take was followed.
    followed : Followed
        As levels: the leaps of that path are taken out.
    standing : Standing
        Where people stand in it.
    far : list of Jump
        Those known so far; each may have been taken for a step from one person to another.

    Returns
    -------
    list of Jump or None
        None where those known so far tell it.
    """
    at = followed.at_s
    middle = float(np.median(followed.offset_s - standing.slope * at))
    levels = np.asarray(middle + GRID_S * np.arange(-_AROUND, _AROUND + 1), np.float64)
    said = np.stack([followed.still.along(level + standing.slope * at) for level in levels])
    rows = [int(np.searchsorted(at, jump.at_s)) for jump in far]
    edges = [0, *rows, at.size]
    zones: list[tuple[Jump | None, int, int, dict[str, int]]] = [(None, 0, at.size, {})]
    if far:  # each may have been taken for another step: from one person to another
        zones = [
            (jump, low, high, {"least": int(np.searchsorted(at, jump.low_s - WINDOW_S)) - low,
                               "most": int(np.searchsorted(at, jump.high_s + WINDOW_S)) - low + 1})
            for jump, low, high in zip(far, edges[:-2], edges[2:], strict=True)
        ]  # fmt: skip
    made: list[Jump] = []
    changed = False
    before = replace(base, slope=standing.slope, level_s=middle + standing.slope * base.middle_s, jumps=())
    for jump, low, high, zone in zones:
        shift = find_shift(said[:, low:high], **zone)
        step = jump.step_s if jump is not None else 0.0
        if shift is not None:
            own, moved_s = _sharpened(followed, standing.slope, levels, shift, low, high)
            # Who walks passes many levels.
            if _share_at(followed, standing.slope, own, moved_s, slice(low, high), low + shift.after) >= _AT_LEVELS:
                step, changed = step + moved_s, True
                gap = float(at[low + shift.before]), float(at[low + shift.after])
                if jump is not None:  # placed as another step, it may lie on the other side of where everybody moves
                    gap = min(gap[0], jump.low_s), max(gap[1], jump.high_s)
                above = tuple(level - middle for level in own)
                jump = _placed(picture, sound, before, Jump(0.0, step, *gap, FLOOR_S), above)  # noqa: PLW2901
        if jump is not None:
            made.append(jump)
        before = replace(before, level_s=before.level_s + step)
    return made if changed else None


def placed_again(
    picture: Hearing, sound: Hearing, cells: Stretch, fitted: Fitted, found: Sequence[Jump]
) -> tuple[Fitted, list[Jump]]:
    """Place jumps by the levels that were fitted: those followed were good to a tenth of a millisecond, half a period.

    Whichever windows lie on another side then are fitted again.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    fitted : Fitted
        With those jumps in its path.
    found : sequence of Jump
        With where they may lie.

    Returns
    -------
    Fitted, list of Jump
        Both as they were where jumps would change places.
    """
    above = tuple(sorted(set(fitted.places.above_s)))
    before = replace(fitted.path, jumps=())
    placed: list[Jump] = []
    for jump, (_, step) in zip(sorted(found, key=lambda one: one.at_s), fitted.path.jumps, strict=True):
        placed.append(_placed(picture, sound, before, replace(jump, step_s=step), above))
        before = replace(before, level_s=before.level_s + step)
    if any(later.at_s <= one.at_s for one, later in pairwise(placed)):
        return fitted, list(found)
    path = replace(fitted.path, jumps=tuple((jump.at_s, jump.step_s) for jump in placed))
    again = fit_places(picture, sound, cells, path, fitted.places)
    return again or replace(fitted, path=path), placed


def _share_at(followed: Followed, slope: float, own: Sequence[float], step_s: float, asked: slice, after: int) -> float:
    """Return the share of the windows that speak which lie at levels that move by a step from a window on."""
    rows = asked.start + np.flatnonzero(followed.surprise[asked] > SPOKE)
    level = followed.offset_s[rows] - slope * followed.at_s[rows] - np.where(rows >= after, step_s, 0)
    near = np.abs(level[:, None] - np.array(own)).min(axis=1) < _AT_S
    # A path glides where one person takes over from another, and a level may say as much.
    moved = slope * followed.at_s + np.where(np.arange(followed.at_s.size) >= after, step_s, 0)
    told = np.max([followed.still.along(one + moved)[rows] for one in own], axis=0)
    return float((near | (told >= followed.surprise[rows])).mean()) if rows.size else 0.0


def _sharpened(
    followed: Followed, slope: float, levels: NDArray[np.float64], shift: Shift, low: int, high: int
) -> tuple[tuple[float, ...], float]:
    """Return a shift's levels and step, seconds, by the peaks of the windows that lie on them.

    The grid they were found on is good to a tenth of a millisecond. Only windows from `low` to `high` are asked.
    """
    at = followed.at_s
    after = np.arange(at.size) >= low + shift.after
    own = [float(levels[level]) for level in shift.levels]
    laid = [level + slope * at + np.where(after, shift.step_s, 0.0) for level in own]
    said = np.stack([followed.still.along(one) for one in laid])
    asked = (said.max(axis=0) > SPOKE) & (np.arange(at.size) >= low) & (np.arange(at.size) < high)
    sharp, steps = [], []
    for number, level in enumerate(own):
        mine = asked & (np.argmax(said, axis=0) == number)
        early, late = (followed.still.beside(laid[number], mine & side) for side in (~after, after))
        if early.size and late.size:
            steps.append((float(np.median(late) - np.median(early)), min(early.size, late.size)))
        sharp.append(level + (float(np.median(early)) if early.size else 0.0))
    if not steps:
        return tuple(sharp), shift.step_s
    moved = np.average([one for one, _ in steps], weights=[count for _, count in steps])
    return tuple(sharp), shift.step_s + float(moved)


def _placed(picture: Hearing, sound: Hearing, before: fine.Path, jump: Jump, above_s: tuple[float, ...]) -> Jump:
    """Return a jump where it lies, of all between its two times."""
    found = jumps.place_jump(picture, sound, before, jump.step_s, jump.low_s, jump.high_s, above_s=above_s)
    return replace(found, se_step_s=jump.se_step_s)
