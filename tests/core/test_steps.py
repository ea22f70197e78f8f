"""Steps in a trace, and which window lies on which level: plain numbers, no sound."""

import numpy as np
import pytest

from vesk.core.sound.jumps import OffsetLevel, assign, changes
from vesk.core.sound.steps import find_steps

AT = np.linspace(0.75, 59.25, 78)


def trace(steps=(), slope=30e-6, scatter=8e-6, seed=1):
    offsets = 0.3 + slope * AT + scatter * np.random.default_rng(seed).normal(size=AT.size)
    for when, step in steps:
        offsets = offsets + np.where(when < AT, step, 0.0)
    return offsets


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("slope", [0.0, 80e-6, -400e-6])
def test_a_slant_holds_no_step(seed, slope):
    steps, level, found = find_steps(AT, trace(slope=slope, seed=seed), [])
    assert steps == []
    assert found == pytest.approx(slope, abs=1e-6)
    assert level == pytest.approx(0.3 + slope * AT.mean(), abs=5e-6)


def test_steps_that_a_slant_could_hide_are_found_with_their_sizes():
    steps, _, slope = find_steps(AT, trace(((20.3, -0.001), (41.7, 0.00625))), [])
    assert [step for *_, step in steps] == [pytest.approx(-0.001, abs=1e-5), pytest.approx(0.00625, abs=1e-5)]
    for (before, after, _), when in zip(steps, (20.3, 41.7), strict=True):
        assert before <= when < after
    assert slope == pytest.approx(30e-6, abs=1e-6)


def test_somebody_walking_is_no_jump():
    walk = 0.0029 / (1 + np.exp(-(AT - 30) / 4))  # a metre in some ten seconds
    steps, *_ = find_steps(AT, trace() + walk, [])
    assert steps == []


def test_wild_windows_decide_nothing():
    offsets = trace()
    offsets[[5, 30, 31, 60]] += [0.004, -0.006, 0.003, 0.01]
    assert find_steps(AT, offsets, [])[0] == []


def test_windows_are_assigned_with_a_price_for_changes():
    rng = np.random.default_rng(3)
    first, second = rng.exponential(size=(2, AT.size)).astype(np.float32)
    first[:40] = 8.0
    second[40:] = 8.0
    first[10] = 0.0  # one deaf window is no reason to change
    second[10] = 6.0
    levels = [OffsetLevel(0.0, first), OffsetLevel(0.02, second)]
    path = assign(levels)
    assert path.tolist() == [0] * 40 + [1] * (AT.size - 40)
    (change,) = changes(levels, path, AT)
    assert change.step_s == pytest.approx(0.02)
    assert (change.before_s, change.after_s) == (pytest.approx(AT[39]), pytest.approx(AT[40]))
