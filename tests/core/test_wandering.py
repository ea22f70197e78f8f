"""A clock is as curved as the windows ask: strays bend none, places are no curve, and its ends are as sure as told."""

import numpy as np
import pytest

from vesk.core.clocks.wander import WITHIN_A_TAKE, find_curve
from vesk.core.sound.measurement import Line
from vesk.core.sound.wandering import with_wander

SCATTER_S = 6e-6
ENDS_S = (0.0, 120.0)
SWING_S = 57e-6  # of 3 ppm in two minutes


def swinging(at):
    return SWING_S * np.sin(2 * np.pi * at / 120 + 0.7)


def bent(away, at, places=()):
    line = Line(middle_s=60.0, at_middle_s=0.0, ppm=0.0, se_middle_s=1e-6, se_ppm=0.1, places=places)
    return with_wander(line, at, away, np.ones(at.size, bool), ENDS_S)


@pytest.mark.parametrize("seed", [1, 4, 7, 10, 11, 13])
@pytest.mark.parametrize(
    ("where", "off"), [(slice(3), -4.5), (slice(-1, None), 80), (slice(1), 25), (slice(2), 25)], ids=str
)
def test_strays_at_an_end_bend_no_steady_clock(seed, where, off):
    rng = np.random.default_rng(seed)
    at = np.linspace(1.0, 119.0, 80)
    away = SCATTER_S * rng.normal(size=at.size)
    away[where] = off * SCATTER_S
    assert not bent(away, at).bends


@pytest.mark.parametrize("seed", range(6))
def test_a_swing_is_followed_to_the_ends_though_it_was_taken_for_two_places(seed):
    rng = np.random.default_rng(seed)
    at = np.linspace(5.0, 115.0, 80)
    away = swinging(at) + SCATTER_S * rng.normal(size=at.size)
    line = bent(away, at, places=((0.0, 0.56), (-67e-6, 0.44)))
    assert line.bends
    for when in (*ENDS_S, 30.0, 60.0, 90.0):
        off = line.offset_at(when) - float(swinging(np.array(when)))
        assert abs(off) < 3.5 * line.standard_error_at(when)
    assert line.standard_error_at(0.0) > 1.5 * line.standard_error_at(60.0)


def test_two_who_speak_in_turn_are_no_curve():
    rng = np.random.default_rng(3)
    at = np.linspace(1.0, 119.0, 80)
    who = np.repeat(rng.integers(0, 2, 20), 4)
    away = np.where(who == 1, -67e-6, 0.0) + SCATTER_S * rng.normal(size=at.size)
    assert not bent(away, at, places=((0.0, 0.5), (-67e-6, 0.5))).bends


def test_the_first_measurement_of_a_clock_is_no_surer_than_any_other():
    rng = np.random.default_rng(5)
    at = np.linspace(0.0, 120.0, 60)
    ahead = swinging(at) + SCATTER_S * rng.normal(size=at.size)
    ahead[0] = swinging(at)[0] + 6 * SCATTER_S
    curve = find_curve(at.tolist(), ahead.tolist(), [SCATTER_S] * at.size, wander=WITHIN_A_TAKE)
    (first, variance), (_, last) = curve.at(0.0), curve.at(120.0)
    assert abs(first - ahead[0]) > 2 * SCATTER_S
    assert variance == pytest.approx(last, rel=0.5)
