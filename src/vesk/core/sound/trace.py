"""The trace: offset along a pairing, window by window, and the line with steps that they lie on."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vesk.core.sound import fine, jumps
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.fitting import CLEAR, LEAST_AGREEING, Fitted, fit, heard_from
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.jump_or_way import are_from_one_place, are_jumps
from vesk.core.sound.measurement import Jump, Line, TracePoint
from vesk.core.sound.moving import find_moving, speak_elsewhere
from vesk.core.sound.offset_levels import find_levels
from vesk.core.sound.steps import LEAST_STEP_S, find_steps
from vesk.core.sound.swaying import sways
from vesk.core.sound.verify import SPOKE, Verified
from vesk.core.sound.wandering import with_wander
from vesk.core.sound.windows import Stretch, lay_windows, with_more

MAX_WINDOWS = 150
_A_STAY, _MOST_WINDOWS = 12, 450  # of a path that leaps: windows for each stay, as long as they are no more in all
_WELL = 24.0  # a peak's height over the rest: fully trusted
_OF_THE_REST = 0.7  # of what lies beyond a jump near an end: a few windows so long fit there
_EXPLAINED = 0.9  # of the windows: where fewer lie on the line, somebody may have moved


@dataclass(frozen=True, slots=True)
class Traced:
    """A place traced in full: the line, every window, the share of them that agree, the stretch, and who disagree."""

    line: Line
    trace: tuple[TracePoint, ...]
    share: float
    stretch: Stretch
    apart: NDArray[np.int64]


def trace(picture: Hearing, sound: Hearing, place: Verified, others: list[Verified]) -> Traced | None:
    """Trace a place: lay the windows onto its line, find its jumps, time everything finely.

    Parameters
    ----------
    picture, sound : Hearing
    place : Verified
        From `verify`, true to a fifth of a millisecond.
    others : list of Verified
        Found elsewhere: stretches of the take may lie there, where samples were lost or doubled.

    Returns
    -------
    Traced or None
        None when fewer than three windows speak.
    """
    straight = _straight(picture, sound, place, others)
    swaying = straight is not None and sways(straight.line, straight.trace)
    if straight is not None:
        path = _path_of(straight.line, place)
        doubted = straight.share < _EXPLAINED and speak_elsewhere(
            picture, sound, straight.stretch, path, straight.apart
        )
        found, ends = straight.line.jumps, (straight.stretch.head_s, straight.stretch.tail_s)
        if not doubted and not swaying and are_jumps(picture, sound, path, found, ends):
            several = bool(found) and len(straight.line.places) > 1
            if several and not are_from_one_place(picture, sound, path, found, ends):
                # A jump from one's place to another's is told by everybody's.
                return _moving(picture, sound, place, straight, only_shift=True) or straight
            return straight
    return _moving(picture, sound, place, straight, swaying=swaying) or straight


def _path_of(line: Line, place: Verified) -> fine.Path:
    steps = tuple((jump.at_s, jump.step_s) for jump in line.jumps)
    return fine.Path(line.middle_s, line.at_middle_s, -line.ppm * 1e-6, steps, place.polarity)


def _moving(picture: Hearing, sound: Hearing, place: Verified, straight: Traced | None, **how: bool) -> Traced | None:
    """Trace a take in which somebody moves; None where lines and jumps explain as much."""
    cells = straight.stretch if straight else None
    cells = cells or lay_windows(picture.seconds, sound.seconds, place.guess, most=_most_windows(place), overlap=0.5)
    if cells is None or not jumps.enough_for(cells.tail_s - cells.head_s):
        return None
    line = straight.line if straight else None
    path = _base(place) if line is None else _path_of(line, place)
    found = find_moving(picture, sound, cells, path, line, **how)
    if found is None:
        return None
    followed = found.followed
    used = np.zeros(followed.at_s.size, bool) if found.fitted is None else found.fitted.agrees
    points = [] if found.fitted is None else list(_points(found.fitted, cells, only_agreeing=True))
    for n in np.flatnonzero((followed.surprise > SPOKE) & ~used):
        weight = min(1.0, (float(followed.surprise[n]) - SPOKE) / SPOKE)
        points.append(TracePoint(float(followed.at_s[n]), float(followed.offset_s[n]), weight, agrees=False))
    share = float(used.sum() / max(1, used.size))
    return Traced(found.line, tuple(sorted(points, key=lambda one: one.at_s)), share, cells, np.flatnonzero(~used))


def _straight(picture: Hearing, sound: Hearing, place: Verified, others: list[Verified]) -> Traced | None:
    """Trace a place as a line with jumps; where those near the ends leave too few windows, without them."""
    traced = _lined(picture, sound, place, others, edges=True)
    return _lined(picture, sound, place, others, edges=False) if traced is None else traced


def _lined(picture: Hearing, sound: Hearing, place: Verified, others: list[Verified], *, edges: bool) -> Traced | None:
    cells = lay_windows(picture.seconds, sound.seconds, place.guess, most=_most_windows(place), overlap=0.5)
    if cells is None:
        return None
    path, found, near = _rough(picture, sound, cells, place, others, edges=edges)
    cells = _with_some_beyond(picture, sound, cells, place, near)
    fitted = fit(picture, sound, cells, path)
    if fitted is None and found and not near:
        path, found = _base(place), []
        fitted = fit(picture, sound, cells, path)
    if fitted is None:
        return None
    path, more = _with_small_steps(cells, fitted, found)
    if len(more) > len(found):
        # A slant that was a stair: laid anew, without what it stood for.
        again = fit(picture, sound, cells, path)
        if again is not None:
            fitted, found = again, more
    if found:
        placed = _placed(picture, sound, fitted, found)
        steps = tuple((jump.at_s, jump.step_s) for jump in placed)
        fitted = fit(picture, sound, cells, replace(fitted.path, jumps=steps))
        if fitted is None:
            return None
        sure = _sure(fitted)  # and each lies after the one before
        if not all(sure):
            # What the fine timing does not confirm was none: without it, once more.
            kept = tuple(jump for jump, real in zip(fitted.path.jumps, sure, strict=True) if real)
            placed = [one for one, real in zip(placed, sure, strict=True) if real]
            fitted = fit(picture, sound, cells, replace(fitted.path, jumps=kept))
            if fitted is None:
                return None
    else:
        placed = []
    return _result(fitted, cells, placed)


def _most_windows(place: Verified) -> int:
    """Return how many windows a take is looked at in at most: more where its recording is in many pieces."""
    return max(MAX_WINDOWS, min(_MOST_WINDOWS, _A_STAY * (place.leaps + 1)))


def _with_some_beyond(
    picture: Hearing, sound: Hearing, cells: Stretch, place: Verified, near: list[jumps.Change]
) -> Stretch:
    """Return windows of which some lie between each jump near an end and that end: shorter ones where they must."""
    at = [(one.before_s + one.after_s) / 2 for one in near]
    beyond = min((min(when - cells.head_s, cells.tail_s - when) for when in at), default=float("inf"))
    if _OF_THE_REST * beyond < cells.length / WORK_RATE:
        longest = _OF_THE_REST * beyond
        cells = (
            lay_windows(
                picture.seconds, sound.seconds, place.guess, most=_most_windows(place), overlap=0.5, longest_s=longest
            )
            or cells
        )
    return with_more(cells, at)


def _rough(
    picture: Hearing, sound: Hearing, cells: Stretch, place: Verified, others: list[Verified], *, edges: bool
) -> tuple[fine.Path, list[jumps.Change], list[jumps.Change]]:
    """Return the path, its jumps, and those of them that lie so near an end that it wants more windows."""
    base = _base(place)
    if not jumps.enough_for(cells.tail_s - cells.head_s):
        return base, [], []
    place, levels = find_levels(picture, sound, cells, place, others)
    base = _base(place)
    assigned = jumps.assign(levels)
    found = jumps.changes(levels, assigned, cells.centres_s) if len(levels) > 1 else []
    start, end = (levels[int(assigned[edge])].above_s for edge in (0, -1))
    near: list[jumps.Change] = []
    if edges and (first := jumps.at_edge(picture, sound, cells, place, start, levels, head=True)) is not None:
        near, found, start = [first], [first, *found], start - first.step_s
    if edges and (last := jumps.at_edge(picture, sound, cells, place, end, levels, head=False)) is not None:
        near, found = [*near, last], [*found, last]
    if not found and start == 0.0:
        return base, [], []
    steps = tuple(((one.before_s + one.after_s) / 2, one.step_s) for one in found)
    return replace(base, level_s=place.at_middle_s + start, jumps=steps), found, near


def _base(place: Verified) -> fine.Path:
    return fine.Path(place.middle_s, place.at_middle_s, place.slope, polarity=place.polarity)


def _with_small_steps(
    cells: Stretch, fitted: Fitted, found: list[jumps.Change]
) -> tuple[fine.Path, list[jumps.Change]]:
    """Look for steps in the windows' own timings; the path and changes with those that were found."""
    at = cells.centres_s
    clear = np.isfinite(fitted.away) & (fitted.heights > 1.5 * CLEAR)
    if clear.sum() < 2 * LEAST_AGREEING + 2:
        return fitted.path, found
    offsets = fitted.path.offset_at(at) + fitted.away  # who speaks where is no step
    steps, level, slope = find_steps(at[clear], offsets[clear], [when for when, _ in fitted.path.jumps])
    if len(steps) <= len(found):
        return fitted.path, found
    changes = [jumps.Change(step, before, after) for before, after, step in steps]
    path = replace(
        fitted.path,
        middle_s=float(at[clear].mean()),
        level_s=level,
        slope=slope,
        jumps=tuple(((before + after) / 2, step) for before, after, step in steps),
    )
    return path, changes


def _placed(picture: Hearing, sound: Hearing, fitted: Fitted, found: list[jumps.Change]) -> list[Jump]:
    """Say of every jump where it is."""
    placed = []
    path, above = fitted.path, fitted.places.above_s
    level = path.level_s
    for change, (_, step) in zip(found, path.jumps, strict=True):
        before = replace(path, level_s=level, jumps=())
        placed.append(jumps.place_jump(picture, sound, before, step, change.before_s, change.after_s, above_s=above))
        level += step
    return placed


def _sure(fitted: Fitted) -> list[bool]:
    errors = np.sqrt(np.maximum(np.diag(fitted.covariance)[2:], 0))
    return [
        abs(step) >= LEAST_STEP_S and abs(step) > 6 * error
        for (_, step), error in zip(fitted.path.jumps, errors, strict=True)
    ]


def _result(fitted: Fitted, cells: Stretch, placed: list[Jump]) -> Traced:
    path, covariance = fitted.path, fitted.covariance
    errors = np.sqrt(np.maximum(np.diag(covariance), 0))
    jumps = tuple(
        replace(one, step_s=step, se_step_s=float(error))
        for one, (_, step), error in zip(placed, path.jumps, errors[2:], strict=True)
    )
    line = Line(
        middle_s=path.middle_s,
        at_middle_s=path.level_s,
        ppm=-path.slope * 1e6,
        se_middle_s=float(errors[0]),
        se_ppm=float(errors[1]) * 1e6,
        jumps=jumps,
        covariance=tuple(tuple(float(value) for value in row) for row in covariance),
        places=heard_from(fitted),
    )
    away = fitted.away + fitted.places.of_windows_s
    line = with_wander(line, cells.centres_s, away, _clear(fitted), (cells.head_s, cells.tail_s))
    if line.bends:  # who lies on the curve agrees, whichever of two places that was taken for
        on_line = np.array([line.offset_at(float(at)) for at in cells.centres_s])
        off = np.abs(path.offset_at(cells.centres_s) + away - on_line)
        fitted = replace(fitted, agrees=_clear(fitted) & (off < LEAST_STEP_S / 2))
    points = _points(fitted, cells)
    asked = fitted.heard & (fitted.agrees | ~_astride(cells, line))
    share = float(fitted.agrees.sum() / max(1, int(asked.sum())))
    return Traced(line, points, share, cells, np.flatnonzero(asked & ~fitted.agrees))


def _astride(cells: Stretch, line: Line) -> NDArray[np.bool_]:
    """Return which windows a jump lies in: they hear two levels, and agree with neither."""
    at, half = cells.centres_s, cells.length / 2 / WORK_RATE
    within = [np.abs(at - jump.at_s) < half for jump in line.jumps]
    return np.any(within, axis=0) if within else np.zeros(at.size, bool)


def _clear(fitted: Fitted) -> NDArray[np.bool_]:
    return np.isfinite(fitted.away) & (fitted.heights > 1.5 * CLEAR)


def _points(fitted: Fitted, cells: Stretch, *, only_agreeing: bool = False) -> tuple[TracePoint, ...]:
    """Return what each window that speaks says."""
    at = cells.centres_s
    weight = np.clip((fitted.heights - CLEAR) / (_WELL - CLEAR), 0.0, 1.0) ** 2
    shown = np.isfinite(fitted.away) & (weight > 0) & (fitted.agrees | (not only_agreeing))
    offsets = fitted.path.offset_at(at) + fitted.places.of_windows_s + fitted.away
    return tuple(
        TracePoint(float(at[i]), float(offsets[i]), float(weight[i]), bool(fitted.agrees[i]))
        for i in np.flatnonzero(shown)
    )
