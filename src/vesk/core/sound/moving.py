"""Tell a take in which somebody moves from one whose recording jumped or whose clock drifts, and trace it so."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound import fine, jumps
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.fitting import Fitted, fit_places, heard_from
from vesk.core.sound.follow import REACH_S, Followed, follow
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.jump_or_way import LEAST_BETWEEN, WALKED_S, slow, walked
from vesk.core.sound.leaping import SWITCH_NATS
from vesk.core.sound.measurement import Jump, Line
from vesk.core.sound.places import Places
from vesk.core.sound.same_room import Side, from_one_place
from vesk.core.sound.shift_jumps import FLOOR_S, jumps_of_shifts, placed_again
from vesk.core.sound.swaying import passed_by
from vesk.core.sound.verify import SPOKE, correlate_around
from vesk.core.sound.ways import (
    CRYSTAL,
    FASTEST_S,
    LEAST_S,
    Run,
    Standing,
    comes_back,
    corners,
    find_standing,
    nearest,
    nobody_stands,
    of_levels,
)
from vesk.core.sound.windows import WINDOW_S, Stretch

_LEAST_BEYOND, _BEYOND = 3, 0.08  # windows, and share of those on the other side
_ODD_NATS = 40.0  # that a rate which no clock has must explain beyond the others
_TELLING, _CLEAR_HEIGHT = 0.08, 6.5  # share of the windows; over what lies around: noise reaches four
_RESTLESS, _HEARD_HEIGHT = 0.2, 4.5
_WALKED_NATS = 15.0
_GAIN_NATS = 12.0  # that a path must explain beyond lines and jumps
_PULL, _PULL_WIDE, _FASTER = 1e-3, 5e-5, 1.5e-3  # a pull-down is meant, and what is beyond a slow walk


@dataclass(frozen=True, slots=True)
class Moving:
    """A take in which somebody moves.

    Attributes
    ----------
    line : Line
    followed : Followed
    fitted : Fitted or None
        To the stretches in which people stand; None where nobody does.
    """

    line: Line
    followed: Followed
    fitted: Fitted | None


def speak_elsewhere(
    picture: Hearing, sound: Hearing, cells: Stretch, straight: fine.Path, apart: NDArray[np.int64]
) -> bool:
    """Say whether windows that lie off a line are more than pauses and noise.

    They are where they speak clearly for another place near it, and where the line itself has a rate that no clock has,
    or a step that somebody may have walked: then they may be on its way.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    straight : Path
    apart : ndarray of int64
        Which of them lie off it.
    """
    least = max(LEAST_BETWEEN, _TELLING * cells.starts.size)
    if apart.size < least:
        return False
    if _is_odd(straight.slope) or any(abs(step) <= WALKED_S for _, step in straight.jumps):
        return True
    far = [(at, step) for at, step in straight.jumps if abs(step) > WALKED_S]
    base = _about(straight, cells, far)
    own = replace(cells, starts=cells.starts[apart])
    reach = int(REACH_S * WORK_RATE)
    curves = correlate_around(picture, sound, own, base.offset_at(own.centres_s), -base.slope * 1e6, reach)
    return are_heard(np.abs(curves.heights).max(axis=1), cells.starts.size)


def are_heard(highest: NDArray[np.float64], windows: int) -> bool:
    """Say whether windows that lie off a line hear somebody elsewhere: some clearly, or many at all.

    Who never stands speaks nowhere for a whole window: less clearly, and most of the time.

    Parameters
    ----------
    highest : ndarray of float64
        Of each, the highest that it is like, over what lies around: noise reaches four.
    windows : int
        How many the take has.
    """
    clear, some = (int((highest > height).sum()) for height in (_CLEAR_HEIGHT, _HEARD_HEIGHT))
    return clear >= max(LEAST_BETWEEN, _TELLING * windows) or some >= _RESTLESS * windows


def find_moving(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    straight: fine.Path,
    line: Line | None,
    *,
    only_shift: bool = False,
    swaying: bool = False,
) -> Moving | None:
    """Follow a take that lines and jumps do not explain, and say what of it is a way.

    Parameters
    ----------
    picture, sound : Hearing
    cells : Stretch
        The windows.
    straight : Path
        What lines and jumps make of it.
    line : Line or None
        The same, with where its jumps may lie and the places that people speak from.
    only_shift : bool
        Whether only a moment is wanted at which everybody's level moves.
    swaying : bool
        Whether windows wander about the line: then no line explains as much.

    Returns
    -------
    Moving or None
        None where lines and jumps explain as much, or all steps are jumps.
    """
    far = [jump for jump in line.jumps if abs(jump.step_s) > WALKED_S] if line else []
    base = _about(straight, cells, [(jump.at_s, jump.step_s) for jump in far])
    followed, level, standing = _followed(picture, sound, cells, base)
    shifted = jumps_of_shifts(picture, sound, base, level, standing, far)
    unmoved = followed, level, far
    if shifted is not None:
        far = shifted
        base = replace(base, jumps=tuple((jump.at_s, jump.step_s) for jump in far))
        followed, level, standing = _followed(picture, sound, cells, base)
        standing = replace(standing, runs=tuple(of_levels(standing.runs)))  # before and after they are the same people
    elif only_shift:
        return None
    if not standing.runs:
        least = _told(followed, straight, line) + _GAIN_NATS
        if not swaying and _explained(followed) < least:
            return None
        return Moving(_restless(level, standing, far), followed, None)
    found = _between_stands(picture, sound, cells, base, level, standing, far, line, shifted=shifted is not None)
    stood = None if found is None else found.fitted
    if swaying if stood is None else passed_by(stood, swaying=swaying):
        if _explained(followed) <= _explained(unmoved[0]):  # nothing moved for everybody: whoever sways went that way
            followed, level, far = unmoved
        return Moving(_restless(level, nobody_stands(level, _crystal(base)), far), followed, None)
    return found


def _explained(followed: Followed) -> float:
    return float(followed.surprise.sum()) - followed.price


def _followed(picture: Hearing, sound: Hearing, cells: Stretch, base: fine.Path) -> tuple[Followed, Followed, Standing]:
    """Follow a take about a path; as it lies, with that path's leaps taken out, and where people stand in it."""
    followed = follow(picture, sound, cells, base.offset_at(cells.centres_s), base.slope)
    leaps = base.offset_at(cells.centres_s) - replace(base, jumps=()).offset_at(cells.centres_s)
    still = replace(followed.still, first=followed.still.first - leaps * WORK_RATE)
    level = replace(followed, offset_s=followed.offset_s - leaps, still=still)
    return followed, level, find_standing(level, _crystal(base))


def _crystal(base: fine.Path) -> float:
    """Return the slope about which a crystal's error lies."""
    return base.slope if abs(base.slope) > CRYSTAL else 0.0


def _told(followed: Followed, straight: fine.Path, line: Line | None) -> float:
    """Return what windows say for the line, its jumps and its places, nats.

    A rate that no clock has costs some, and so does a step that somebody may have walked, where nobody stands.
    """
    at = straight.offset_at(followed.at_s)
    above = [later for later, _ in line.places] if line and line.places else [0.0]
    told = float(np.max([followed.still.along(at + later) for later in above], axis=0).sum())
    odd = _ODD_NATS if _is_odd(straight.slope) else 0.0
    taken = sum(slow(jump) for jump in line.jumps) if line else 0
    return told - SWITCH_NATS * len(straight.jumps) - _WALKED_NATS * taken - odd


def _is_odd(slope: float) -> bool:
    """Say whether no clock runs so, and whoever walks slowly does."""
    size = abs(slope)
    return CRYSTAL < size < _FASTER and abs(size - _PULL) > _PULL_WIDE


def _about(straight: fine.Path, cells: Stretch, far: list[tuple[float, float]]) -> fine.Path:
    """Return the line in the midst of all levels, at a rate that a clock may have: about it the take is followed."""
    kept = tuple(far)
    at = cells.centres_s
    slope = 0.0 if _is_odd(straight.slope) else straight.slope
    line = replace(straight, slope=slope, jumps=kept)
    away = straight.offset_at(at) - line.offset_at(at)
    return replace(line, level_s=line.level_s + (float(away.min()) + float(away.max())) / 2)


def _restless(followed: Followed, standing: Standing, far: list[Jump]) -> Line:
    """Return the line of a take in which nobody ever stands."""
    spoke = followed.surprise > SPOKE
    middle = float(followed.at_s[spoke].mean())
    line = Line(
        middle, standing.level_s + standing.slope * middle, -standing.slope * 1e6, standing.se_level_s,
        standing.se_slope * 1e6,
        jumps=tuple(far),
    )  # fmt: skip
    if line.jumps:
        line = replace(line, covariance=_diagonal(line))
    return replace(line, moves=_moves(line, followed))


def _diagonal(line: Line) -> tuple[tuple[float, ...], ...]:
    errors = [line.se_middle_s, line.se_ppm * 1e-6, *(jump.se_step_s for jump in line.jumps)]
    return tuple(tuple(a * a if i == j else 0.0 for j in range(len(errors))) for i, a in enumerate(errors))


def _moves(line: Line, followed: Followed) -> tuple[tuple[float, float], ...]:
    """Return the corners of the way that is heard beyond the line's steps."""
    spoke = followed.surprise > SPOKE
    at = followed.at_s[spoke]
    straight = line.at_middle_s - line.ppm * 1e-6 * (at - line.middle_s)
    near = [jump for jump in line.jumps if abs(jump.step_s) <= WALKED_S]  # the others were taken out to follow it
    straight = straight + sum((np.where(at > jump.at_s, jump.step_s, 0.0) for jump in near), np.zeros(at.size))
    return tuple((round(a, 2), round(b, 5)) for a, b in corners(at, followed.offset_s[spoke] - straight))


def _between_stands(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    base: fine.Path,
    followed: Followed,
    standing: Standing,
    far: list[Jump],
    line: Line | None,
    *,
    shifted: bool,
) -> Moving | None:
    """Fit the clocks to where people stand, and say of each step between two stands what it is."""
    runs = standing.runs
    order = _reference_first(runs, standing)
    of = np.full(cells.starts.size, -1, np.int64)
    for number, run in enumerate(order):
        of[run.rows] = number
    above = tuple(run.level_s - order[0].level_s for run in order)
    path = replace(base, slope=standing.slope, level_s=order[0].level_s + standing.slope * base.middle_s)
    fitted = fit_places(picture, sound, cells, path, Places(above, of, 0.0, 0.0))
    if fitted is None:
        return None
    levels = dict(zip((id(run) for run in order), fitted.places.above_s, strict=True))
    back = comes_back(runs)
    steps = []
    for number, (one, other) in enumerate(pairwise(runs)):
        stands = (one, levels[id(one)]), (other, levels[id(other)])
        if abs(stands[1][1] - stands[0][1]) >= LEAST_S:
            steps.append(
                _step_between(picture, sound, cells, fitted, followed, stands, line, comes_back=number in back)
            )
    found = [step.jump for step in steps if step.is_jump and step.jump]
    unsure = [step.jump for step in steps if not step.is_jump and step.jump]
    ways = [step for step in steps if step.jump is None]
    if not ways and not unsure and not shifted:
        return None  # jumps, and no way: that is traced already
    if found:
        fitted = _with_jumps(picture, sound, cells, fitted, runs, levels, found)
        if fitted is None:
            return None  # a jump is not dropped for a way beside it: the straight line has both
    fitted, found = placed_again(picture, sound, cells, fitted, [*found, *far]) if shifted else (fitted, [*found, *far])
    told = _line_of(fitted, found, tuple(unsure))
    others_turn = bool(ways) and all(step.is_turn for step in ways)
    if others_turn or any(one.rows[-1] > other.rows[0] for one, other in pairwise(runs)):  # and nobody walks
        return Moving(replace(told, places=heard_from(fitted)), followed, fitted)
    return Moving(replace(told, moves=_moves(told, followed)), followed, fitted)


@dataclass(frozen=True, slots=True)
class _Step:
    """What lies between two stands: a jump, or what may be one; else a way, or another's turn to speak."""

    jump: Jump | None = None
    is_jump: bool = False
    is_turn: bool = False


def _step_between(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    fitted: Fitted,
    followed: Followed,
    stands: tuple[tuple[Run, float], tuple[Run, float]],
    line: Line | None,
    *,
    comes_back: bool,
) -> _Step:
    """Say what lies between two neighbouring stands, each with by how much it lies above the path, seconds."""
    (one, low_s), (other, high_s) = stands
    step, at = high_s - low_s, cells.centres_s
    gap = float(at[one.rows[-1]]), float(at[other.rows[0]])
    if gap[0] >= gap[1]:
        return _Step()  # they speak in turn
    before, after = (replace(fitted.path, level_s=fitted.path.level_s + above, jumps=()) for above in (low_s, high_s))
    same = from_one_place(
        picture, sound, Side(before, float(at[one.rows[0]]), gap[0]), Side(after, gap[1], float(at[other.rows[-1]]))
    )
    if same is None and (comes_back or _heard_beyond(followed, fitted.path, (low_s, high_s), gap)):
        return _Step()
    placed = jumps.place_jump(picture, sound, before, step, *gap)
    if placed.gained:
        return _Step(replace(placed, se_step_s=FLOOR_S), is_jump=True)  # whoever walks doubles nothing
    low, high = _widest(placed, line)
    too_fast = high - low < abs(step) / FASTEST_S
    if same is False:
        return _Step(is_turn=too_fast)  # nobody went there so fast: somebody else is heard
    if walked(picture, sound, before, step, gap):
        return _Step()
    jump = replace(placed, low_s=low, high_s=high, se_step_s=FLOOR_S)
    return _Step(jump, is_jump=bool(same) or too_fast)


def _widest(placed: Jump, line: Line | None) -> tuple[float, float]:
    """Return between which times a step lies at most: as placed here, or as it was by the straight line."""
    low, high = placed.low_s, placed.high_s
    for jump in line.jumps if line else ():
        near = jump.low_s < high + WINDOW_S and jump.high_s > low - WINDOW_S
        if abs(jump.step_s - placed.step_s) < LEAST_S and near:
            low, high = min(low, jump.low_s), max(high, jump.high_s)
    return low, high


def _reference_first(runs: tuple[Run, ...], standing: Standing) -> list[Run]:
    """Return the runs, the one that sets the line first: the longest of those as near as the nearest that counts."""
    near = [run for run in runs if run.level_s <= standing.level_s + LEAST_S / 2]
    first = max(near, key=lambda run: run.rows.size)
    return [first, *(run for run in runs if run is not first)]


def _heard_beyond(
    followed: Followed, path: fine.Path, levels_s: tuple[float, float], gap_s: tuple[float, float]
) -> bool:
    """Say whether either level is heard on the other side of the step too: two people then, and nothing was lost."""
    at = followed.at_s
    line = replace(path, jumps=()).offset_at(at)  # leaps are taken out of what is followed
    for level, side in zip(levels_s, (at > gap_s[1] + WINDOW_S, at < gap_s[0] - WINDOW_S), strict=True):
        told, own = followed.still.along(line + level)[side], followed.surprise[side]
        # A voice's pitch speaks beside its own level too, but never above it.
        heard = int(((told > SPOKE) & (told > own)).sum())
        if heard >= max(_LEAST_BEYOND, _BEYOND * told.size):
            return True
    return False


def _with_jumps(
    picture: Hearing,
    sound: Hearing,
    cells: Stretch,
    fitted: Fitted,
    runs: tuple[Run, ...],
    levels: dict[int, float],
    found: list[Jump],
) -> Fitted | None:
    """Fit again with those steps that are jumps in the path, and the rest of each level above it."""
    at = cells.centres_s
    # Where each would lie without the jumps: who is near is seen there.
    own = [levels[id(run)] - sum(jump.step_s for jump in found if jump.at_s < float(at[run.rows[0]])) for run in runs]
    # Levels that only a jump parted are one: else it could not be told from a place.
    kept: list[float] = []
    counts: list[int] = []
    of = np.full(at.size, -1, np.int64)
    for run, level in zip(runs, own, strict=True):
        near = [n for n, other in enumerate(kept) if abs(other - level) < LEAST_S / 2]
        number = near[0] if near else len(kept)
        if not near:
            kept.append(level)
            counts.append(0)
        counts[number] += run.rows.size
        of[run.rows] = number
    first = kept.index(nearest(kept, counts))
    order = [first, *(n for n in range(len(kept)) if n != first)]
    renamed = np.argsort(order)
    above = tuple(kept[n] - kept[first] for n in order)
    places = Places(above, np.where(of >= 0, renamed[np.maximum(of, 0)], -1), 0.0, 0.0)
    steps = tuple(sorted([*fitted.path.jumps, *((jump.at_s, jump.step_s) for jump in found)]))
    path = replace(fitted.path, level_s=fitted.path.level_s + kept[first], jumps=steps)
    return fit_places(picture, sound, cells, path, places)


def _line_of(fitted: Fitted, found: list[Jump], unsure: tuple[Jump, ...]) -> Line:
    errors = np.sqrt(np.maximum(np.diag(fitted.covariance), 0))
    path = fitted.path
    known = {jump.at_s: jump for jump in found}
    steps = tuple(
        replace(known[at], step_s=step, se_step_s=float(error))
        for (at, step), error in zip(path.jumps, errors[2:], strict=True)
    )
    return Line(
        middle_s=path.middle_s, at_middle_s=path.level_s, ppm=-path.slope * 1e6, se_middle_s=float(errors[0]),
        se_ppm=float(errors[1]) * 1e6, jumps=steps, unsure=unsure,
        covariance=tuple(tuple(float(value) for value in row) for row in fitted.covariance),
    )  # fmt: skip
