"""Takes that jump again and again, near an end, by little or back: every level is found, and none that is none."""

import sys
from dataclasses import replace

import numpy as np
import pytest
from tests.conftest import PROJECT

from vesk.core.kinds import MATCHED
from vesk.core.sound.coarse import search
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.finding import better_stairs
from vesk.core.sound.jump_or_way import is_nobodys
from vesk.core.sound.leaping import leap_guess
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import Jump

sys.path.insert(0, str(PROJECT / "benchmarks"))

import material
from jumps import edited

SAMPLE_S = 1 / 48_000


def measured(edits, seconds=40, seed=3, ppm=-66.0, **how):
    one = edited(material.pair(seconds, seed, snr_db=15, ppm=ppm, **how), edits)
    return one, measure(material.hear(one.picture), material.hear(one.sound))


def assert_told(edits, **how):
    one, found = measured(edits, **how)
    assert found.decision == MATCHED
    assert len(found.line.jumps) == len(one.jumps)
    for jump, (at, added) in zip(found.line.jumps, one.jumps, strict=True):
        assert jump.step_s == pytest.approx(-added / WORK_RATE, abs=SAMPLE_S)
        assert jump.low_s - 0.001 <= at <= jump.high_s + 0.001


@pytest.mark.parametrize(
    "edits",
    [
        [(at, "lost", 683) for at in (6.5, 12.0, 19.0, 25.5, 31.0)],  # 43 ms each time: no line holds a fifth of it
        [(at, "lost", 85) for at in (6.5, 12.0, 19.0, 25.5, 31.0)],  # 5 ms each: one line leans over all of them
        [(12.0, "lost", 155), (21.0, "repeated", 155)],  # back to where it was, as if two had spoken
        [(10.0, "repeated", 35), (18.0, "repeated", 21), (28.0, "repeated", 2718)],
        [(38.5, "lost", 300)],
        [(2.4, "repeated", 3505)],
    ],
)
def test_every_jump_is_told_at_its_size_and_place(edits):
    assert_told(edits)


def test_in_minutes_a_clock_is_followed_from_one_stair_to_the_next_and_no_line_across_them_stands():
    """Windows lie seconds apart there, at 90 ppm each four samples beside the one before."""
    often = [(float(at), "lost", 341) for at in range(12, 232, 23)]
    one = edited(material.pair(240, 3, snr_db=15, ppm=90.0), often)
    picture, sound = material.hear(one.picture), material.hear(one.sound)
    likely = search(picture.features, sound.features)
    stairs = leap_guess(picture, sound, likely[0], tried=1)
    assert (stairs.log10_false_alarm < -30, stairs.polarity) == (True, 1)
    assert stairs.slope == pytest.approx(-90e-6, abs=2e-6)
    # A line that few windows lie on: over two hours one was no chance by itself, and 86 ms off.
    across = replace(stairs, slope=3e-4, log10_false_alarm=-6.8, surprise=np.where(stairs.surprise > 3, 0.0, 0.5))
    assert [one.slope for one in better_stairs(picture, sound, across, likely, 1)] == [stairs.slope]
    along = replace(across, surprise=np.full(96, 7.0))
    assert better_stairs(picture, sound, along, likely, 1) == []


def test_equal_steps_in_one_direction_are_a_recorders_and_nobodys_way():
    """Two who speak in turn are as far apart each time, too, but there and back."""
    steps = [Jump(at, step, at - 2, at + 2, 1e-6) for at, step in ((10.0, 0.01), (30.0, 0.010_02), (50.0, 0.009_99))]
    assert all(is_nobodys(steps, number) for number in range(3))
    assert not is_nobodys(steps[:2], 0)
    assert not is_nobodys([*steps, Jump(70.0, -0.01, 68.0, 72.0, 1e-6)], 0)


def test_what_goes_silent_or_stutters_in_place_moves_nothing():
    _, found = measured([(8.0, "gap", 4000), (18.0, "stutter", 8000), (28.0, "gap", 1600)])
    assert (found.decision, found.line.jumps, found.line.unsure) == (MATCHED, (), ())


def test_one_who_asks_and_one_who_answers_are_two_people_and_no_jump():
    one = material.conversation(20, 8001, places_s=(0.0, 5e-3), turn_s=(11, 12), snr_db=15)
    found = measure(material.hear(one.picture), material.hear(one.sound))
    assert found.decision == MATCHED
    assert found.line.jumps == ()
    assert [round(later, 4) for later, _ in found.line.places] == [0.0, 0.005]
    assert found.line.offset_at(found.head_s) == pytest.approx(one.offset_at(found.head_s), abs=1e-4)
