"""Walls, loudspeakers and halls: sound belongs where it arrives first, however loud it comes again."""

from __future__ import annotations

import sys

import numpy as np
import pytest
from sound_material import babble, hearing
from tests.conftest import PROJECT

from vesk.core.kinds import MATCHED
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.echo import Alike, on_direct
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure, measure_channels
from vesk.core.sound.verify import verify
from vesk.core.verdict.along import says_along
from vesk.simulator.paths import echoing, reverberant

sys.path.insert(0, str(PROJECT / "benchmarks"))

import echoes

OFFSET_S = -1.25


@pytest.fixture(scope="module")
def told() -> np.ndarray:
    return babble(32, 51).astype(np.float32)


def pair(picture: np.ndarray, sound: np.ndarray):
    """The sound began a second and a quarter before the picture."""
    return hearing(picture[round(-OFFSET_S * WORK_RATE) :], 0.003), hearing(sound, 0.001, 1)


@pytest.mark.parametrize(
    ("late_s", "amount", "direct"),
    [(0.058, 0.3, 1.0), (0.0213, 0.9, 1.0), (0.034, 1.0, 0.5), (0.3, 0.8, 1.0), (0.37, 1.0, 0.6)],
)
@pytest.mark.parametrize("of_sound", [False, True])
def test_an_echo_is_neither_a_repetition_nor_where_sound_belongs(told, late_s, amount, direct, of_sound):
    again = echoing(told, WORK_RATE, late_s=late_s, amount=amount, direct=direct)
    found = measure(*pair(told, again) if of_sound else pair(again, told))
    assert found.decision == MATCHED, found.reason
    assert found.line.offset_at(found.middle_s) == pytest.approx(OFFSET_S, abs=2e-5)
    assert not found.line.jumps
    says = says_along(found.line, "A", "S1", 48_000)
    assert says.startswith(
        ("S1 holds" if of_sound else "A hears") + f" everything once more {late_s * 1000:.1f} ms later"
    )


@pytest.mark.parametrize("direct", [1.0, 0.4])
def test_samples_lost_before_a_wall_are_told_by_the_direct_sound(told, direct):
    lost, at = 331, 16 * WORK_RATE
    again = echoing(told, WORK_RATE, late_s=0.044, amount=0.7, direct=direct)
    found = measure(*pair(again, np.delete(told, np.arange(at, at + lost))))
    (jump,) = found.line.jumps
    assert jump.step_s * WORK_RATE == pytest.approx(lost, abs=0.5)
    assert found.line.offset_at(2.0) == pytest.approx(OFFSET_S, abs=3e-5)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("of_sound", [False, True])
def test_far_in_a_hall_the_first_arrival_counts_and_the_band_says_what_is_not_known(told, seed, of_sound):
    far = reverberant(told, WORK_RATE, seed=seed, amount=80.0, decay_s=1.2)  # echoes 19 dB over the direct sound
    found = measure(*pair(told, far) if of_sound else pair(far, told))
    assert found.decision == MATCHED, found.reason
    away = abs(found.line.offset_at(found.middle_s) - OFFSET_S)
    assert away < max(1e-4, 2 * found.line.se_middle_s) < 0.006
    assert ("S1 is so far" if of_sound else "A is so far") in says_along(found.line, "A", "S1", 48_000)


def test_a_halls_arrivals_are_no_strokes_that_another_place_would_fit_better():
    """Stepped along as a machine's strokes are, it lay 5.8 ms off and outside its band."""
    off_s, in_band = echoes._one("a hall, 18 dB", 13)
    assert off_s < 2e-4
    assert in_band


def test_two_walls_and_a_recorder_before_one_of_its_own(told):
    twice = echoing(echoing(told, WORK_RATE, late_s=0.019, amount=1.1), WORK_RATE, late_s=0.052, amount=0.8)
    found = measure(*pair(twice, echoing(told, WORK_RATE, late_s=0.07, amount=0.7)))
    assert found.line.offset_at(found.middle_s) == pytest.approx(OFFSET_S, abs=3e-5)


@pytest.mark.parametrize("late_s", [0.041, 0.36])
def test_every_channel_is_laid_on_direct_sound(told, late_s):
    late = np.concatenate([np.zeros(64, np.float32), told[:-64]])
    picture, lav = pair(echoing(told, WORK_RATE, late_s=late_s, amount=1.0, direct=0.6), told)
    found = measure_channels([picture], [hearing(late, 0.001, 5), lav])
    assert (found.decision, found.channel) == (MATCHED, 1), found.reason
    assert found.line.offset_at(found.middle_s) == pytest.approx(OFFSET_S, abs=2e-5)
    assert found.others[0].later_s == pytest.approx(0.004, abs=2e-4)


def test_a_place_without_an_echo_stays_as_it_is(told):
    room = reverberant(told, WORK_RATE, seed=3, amount=0.5)
    picture, sound = pair(room, told)
    place = verify(picture, sound, Candidate(OFFSET_S, 0.0, 1.0), tried=1)
    same = on_direct(picture, sound, place)
    assert (same.at_middle_s, same.echoes_s, same.hall_s) == (place.at_middle_s, (), None)


@pytest.mark.parametrize("wide", [0, 8])
def test_what_comes_again_after_about_as_long_is_a_voices_pitch_and_no_echo(wide):
    cross = np.zeros(2 * 8000 + 1, np.float32)
    cross[8000], cross[8000 + 75], cross[8000 - 75] = 1.0, 0.16, 0.34
    more = np.zeros(8001)
    more[75 - wide : 75 + wide + 1] = -34.0 * np.hanning(2 * wide + 3)[1:-1]
    found = Alike(cross, more)
    assert found.echoes == (() if wide else (-75,))
