"""Whether a step of a line is a jump of the recording, or somebody's way from one place to another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from vesk.core.sound import fine
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.follow import REACH_S, follow
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measurement import Jump
from vesk.core.sound.same_room import Side, from_one_place
from vesk.core.sound.verify import SPOKE
from vesk.core.sound.ways import FASTEST_S, LEAST_S
from vesk.core.sound.windows import WINDOW_S, Stretch

WALKED_S = 0.9 * REACH_S  # a step further than this nobody walked
LEAST_BETWEEN = 3  # windows that must speak for somebody
_ZONE_S, _ZONE_HOP_S, _MOST_ZONE = 0.3, 0.1, 80
_BETWEEN = 0.2  # of a step: a window that lies so far from either end is on its way
_AGAIN, _ALIKE_S = 3, 4e-5  # steps of one size, to two samples: nobody stands as far on each time, to a centimetre
_LOUD = 0.1  # of the take's own level: in less nobody is heard on the way


def are_jumps(
    picture: Hearing, sound: Hearing, path: fine.Path, found: Sequence[Jump], ends_s: tuple[float, float]
) -> bool:
    """Say whether all steps of a line are jumps: from one place on both sides, or too fast for anybody.

    Parameters
    ----------
    picture, sound : Hearing
    path : Path
        With those steps.
    found : sequence of Jump
        The same, with where they may lie.
    ends_s : (float, float)
        Picture times of head and tail.
    """
    room = [_from_one_place(picture, sound, path, found, number, ends_s) for number in range(len(found))]
    if False in room or (None in room and _come_back(found)):
        return False
    level = path.level_s
    for number, (jump, same) in enumerate(zip(found, room, strict=True)):
        before = replace(path, level_s=level, jumps=())
        level += jump.step_s
        if is_nobodys(found, number):
            continue
        gap = jump.low_s - _ZONE_S, jump.high_s + _ZONE_S
        if (not same and slow(jump)) or walked(picture, sound, before, jump.step_s, gap):
            return False
    return True


def are_from_one_place(
    picture: Hearing, sound: Hearing, path: fine.Path, found: Sequence[Jump], ends_s: tuple[float, float]
) -> bool:
    """Say whether the room answers alike on both sides of every step that could be somebody's way.

    Parameters
    ----------
    picture, sound : Hearing
    path : Path
    found : sequence of Jump
    ends_s : (float, float)
        As `are_jumps` takes them.
    """
    room = (_from_one_place(picture, sound, path, found, number, ends_s) for number in range(len(found)))
    return all(room)


def _from_one_place(
    picture: Hearing,
    sound: Hearing,
    path: fine.Path,
    found: Sequence[Jump],
    number: int,
    ends_s: tuple[float, float],
) -> bool | None:
    """Say whether both sides of one step of a line are heard from one place; None where that is not known."""
    jump = found[number]
    if is_nobodys(found, number):
        return True
    low = found[number - 1].high_s if number else ends_s[0]
    high = found[number + 1].low_s if number + 1 < len(found) else ends_s[1]
    level = path.level_s + sum(one.step_s for one in found[:number])
    before, after = (replace(path, level_s=level + step, jumps=()) for step in (0.0, jump.step_s))
    return from_one_place(picture, sound, Side(before, low, jump.low_s), Side(after, jump.high_s, high))


def is_nobodys(found: Sequence[Jump], number: int) -> bool:
    """Say whether a step cannot be anybody's way: so far, of doubled samples, or one of a recorder's equal buffers.

    Two who speak in turn are as far apart each time, too, but there and back.

    Parameters
    ----------
    found : sequence of Jump
        All steps of a line.
    number : int
        Which of them.
    """
    step = found[number].step_s
    if abs(step) > WALKED_S or found[number].gained:
        return True
    back = any(abs(one.step_s + step) < _ALIKE_S for one in found)
    return not back and sum(abs(one.step_s - step) < _ALIKE_S for one in found) >= _AGAIN


def slow(jump: Jump) -> bool:
    """Say whether there is time to walk that far where a step may lie.

    Parameters
    ----------
    jump : Jump
    """
    far = abs(jump.step_s) > WALKED_S
    return not far and not jump.gained and jump.high_s - jump.low_s > abs(jump.step_s) / FASTEST_S


def _come_back(found: Sequence[Jump]) -> bool:
    """Say whether steps that somebody may have walked lead back to a level that was heard before."""
    levels = [0.0]
    for jump in found:
        level = levels[-1] + jump.step_s
        if any(abs(level - other) < LEAST_S and abs(jump.step_s) <= WALKED_S for other in levels[:-1]):
            return True
        levels.append(level)
    return False


def walked(picture: Hearing, sound: Hearing, before: fine.Path, step_s: float, gap_s: tuple[float, float]) -> bool:
    """Say whether sound is heard on its way between two levels: short windows, followed across the gap.

    Parameters
    ----------
    picture, sound : Hearing
    before : Path
        Along which it lies before.
    step_s : float
        By how much the offset grows.
    gap_s : (float, float)
        Picture times of the last window before and the first after, seconds.
    """
    if gap_s[1] - gap_s[0] + WINDOW_S < abs(step_s) / FASTEST_S:
        return False  # nobody is so fast: what is heard between is somebody else
    low, high = gap_s[0] - _ZONE_S, gap_s[1] + _ZONE_S
    hop = max(_ZONE_HOP_S, (high - low) / _MOST_ZONE)
    starts = np.arange(max(0.0, low), high, hop) * WORK_RATE
    zone = Stretch(starts.astype(np.int64), int(_ZONE_S * WORK_RATE), low, high)
    expected = before.offset_at(zone.centres_s) + step_s / 2
    found = follow(picture, sound, zone, expected, before.slope)
    share = (found.offset_s - before.offset_at(zone.centres_s)) / step_s
    # A path through silence picks what noise offers: only where somebody is loud is anybody heard.
    level = np.array([float(np.mean(picture.window(int(start), zone.length) ** 2)) for start in zone.starts])
    loud = level > _LOUD**2 * _power(picture)
    on_its_way = loud & (found.surprise > SPOKE) & (share > _BETWEEN) & (share < 1 - _BETWEEN)
    return int(on_its_way.sum()) >= LEAST_BETWEEN


def _power(hearing: Hearing) -> float:
    """Return the mean square of a recording, from a minute of it."""
    starts = np.linspace(0, max(0, hearing.size - WORK_RATE), 60).astype(int)
    return float(np.mean([np.mean(hearing.window(int(start), WORK_RATE) ** 2) for start in starts]))
