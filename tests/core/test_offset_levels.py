"""Takes that jump again and again, near an end, by little or back: every level is found, and none that is none."""

import sys

import pytest
from tests.conftest import PROJECT

from vesk.core.kinds import MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure

sys.path.insert(0, str(PROJECT / "benchmarks"))

import material
from jumps import edited

SAMPLE_S = 1 / 48_000


def measured(edits, seconds=40, seed=3, **how):
    one = edited(material.pair(seconds, seed, snr_db=15, ppm=-66.0, **how), edits)
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
