"""Where one line gives way to another: assigned windows, changes that are backed, places with honest intervals."""

import numpy as np
import pytest
from sound_material import babble, hearing

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.fine import Path
from vesk.core.sound.jumps import OffsetLevel, assign, changes, enough_for, place_jump


def level(above_s: float, surprise) -> OffsetLevel:
    return OffsetLevel(above_s, np.asarray(surprise, np.float32))


AT = np.arange(20.0)
FIRST = np.where(AT < 9, 6.0, 0.5)


def test_a_change_is_paid_for_once():
    second = np.where(AT < 9, 0.5, 6.0)
    assert assign([level(0, FIRST), level(0.1, second)]).tolist() == [0] * 9 + [1] * 11


def test_one_window_that_errs_changes_nothing():
    one = np.full(20, 5.0)
    other = np.full(20, 0.3)
    one[7], other[7] = 0.0, 9.0
    assert set(assign([level(0, one), level(0.1, other)])) == {0}


def test_a_change_lies_between_windows_that_spoke():
    second = np.where(AT < 12, 0.5, 6.0)  # from 9 to 12 nobody spoke
    levels = [level(0.0, FIRST), level(0.05, second)]
    (found,) = changes(levels, assign(levels), AT)
    assert (found.step_s, found.before_s, found.after_s) == (pytest.approx(0.05), 8.0, 12.0)


def test_a_level_nobody_speaks_for_makes_no_change():
    silent = level(0.05, np.where(AT < 9, 0.5, 2.0))
    levels = [level(0.0, FIRST), silent]
    assert changes(levels, np.array([0] * 9 + [1] * 11), AT) == []


def test_short_takes_are_not_searched_for_jumps():
    assert not enough_for(1.0)
    assert enough_for(10.0)


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return babble(24, 91)


@pytest.mark.parametrize("lost", [40, 800, -640])
def test_a_jump_is_placed_where_it_is(scene, lost):
    at = 11 * WORK_RATE
    sound = np.concatenate([scene[:at], scene[at + lost :]])
    path = Path(12.0, 0.0, 0.0)
    found = place_jump(hearing(scene, 0.001), hearing(sound, 0.001, 1), path, lost / WORK_RATE, 9.0, 13.0)
    assert found.at_s == pytest.approx(11.0, abs=0.01)
    assert found.low_s - 0.002 <= 11.0 <= found.high_s + 0.002
    assert found.high_s - found.low_s < 0.05


@pytest.mark.parametrize("hiss", [1e-4, 0.02])
def test_a_jump_in_silence_has_a_wide_interval_and_in_noise_as_well(scene, hiss):
    quiet = scene.copy()
    quiet[10 * WORK_RATE : 13 * WORK_RATE] = 0.0
    at, lost = int(11.5 * WORK_RATE), 300
    sound = np.concatenate([quiet[:at], quiet[at + lost :]])
    found = place_jump(hearing(quiet, hiss), hearing(sound, hiss, 1), Path(12.0, 0.0, 0.0), lost / WORK_RATE, 8.0, 14.5)
    assert found.low_s < 10.4
    assert found.high_s > 12.6
    assert found.low_s <= found.at_s <= found.high_s
