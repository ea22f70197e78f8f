"""Everybody's level moves at once where samples were lost; one person who goes elsewhere moves nobody else."""

import numpy as np
import pytest
from sound_material import babble, hearing

from vesk.core.kinds import MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.core.sound.shifts import GRID_S, find_shift

LEVELS, WINDOWS, AFTER = 400, 60, 31


def said(levels_of, seed=1):
    """Windows that speak for one level each, what chance says for the others, and a third that say nothing."""
    rng = np.random.default_rng(seed)
    out = rng.exponential(size=(LEVELS, WINDOWS)).astype(np.float32)
    for window in range(WINDOWS):
        if rng.random() < 0.67:
            level = levels_of(window, rng)
            out[level - 1 : level + 2, window] = 8.0
    return out


def at_levels(levels, steps):
    """People at levels of their own who speak in turn, each moved by a step of their own from a window on."""

    def of(window, rng):
        who = int(rng.integers(len(levels)))
        return levels[who] + steps[who] * (window >= AFTER)

    return of


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("step", [-70, 40, 150])
def test_two_who_move_alike_at_one_moment_are_a_jump(seed, step):
    found = find_shift(said(at_levels((150, 240), (step, step)), seed))
    assert round(found.step_s / GRID_S) == pytest.approx(step, abs=2)
    assert found.before <= AFTER <= found.after + 1  # by chance a window beside it may speak for either


@pytest.mark.parametrize("seed", range(6))
def test_who_goes_elsewhere_alone_is_none_nor_who_stays_nor_a_third_who_comes(seed):
    for one, other in ((0, 70), (0, 0), (70, -55)):
        assert find_shift(said(at_levels((150, 240), (one, other)), seed)) is None
    assert find_shift(said(at_levels((150,), (70,)), seed)) is None


@pytest.mark.parametrize(("seed", "lost_s"), [(4, -0.0015), pytest.param(7, 0.02, marks=pytest.mark.slow)])
def test_samples_lost_while_three_speak_in_turn_from_metres_apart_are_found(seed, lost_s):
    """Which of them spoke before it and which after is no part of the step, and a pause beside it not its moment.

    Once the step came out as 9 ms, or as 34; and between two other people's words, three seconds away.
    """
    jumped, seconds, rng = 21.0, 40.0, np.random.default_rng(seed)
    voices = [babble(seconds, number) for number in (11, 12, 13)]
    at = np.arange(voices[0].size) / WORK_RATE
    turn = np.searchsorted(np.cumsum(rng.uniform(0.8, 3.0, 40)), at) % 3
    heard = [voice * (turn == number) for number, voice in enumerate(voices)]
    scratch = sum(np.roll(voice, late) for voice, late in zip(heard, (0, 48, 224), strict=True))  # 0, 3 and 14 ms
    whole, first, count = sum(heard), int(jumped * WORK_RATE), round(lost_s * WORK_RATE)
    sound = np.concatenate([whole[:first], whole[first + count :]])
    found = measure(hearing(scratch, 0.01), hearing(sound, 0.003, 1))
    assert found.decision == MATCHED
    (jump,) = found.line.jumps
    assert jump.step_s == pytest.approx(lost_s, abs=1e-5)
    assert jump.low_s - 0.02 < jumped < jump.high_s + 0.02
    assert jump.high_s - jump.low_s < 0.2
    offsets = [found.line.offset_at(moment) for moment in (5.0, 35.0)]
    assert offsets[1] - offsets[0] == pytest.approx(lost_s, abs=1e-5)
    assert min(abs(offsets[0] - late) for late in (0.0, 0.003)) < 1e-5  # along one who is near
