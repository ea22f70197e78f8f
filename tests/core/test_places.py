"""People speak from places of their own: a level for each, one slope for all; who speaks when is no drift."""

import numpy as np
import pytest
from sound_material import babble, delayed, hearing

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.core.sound.places import find_places

PPM, LATE_S = 31.7, 0.4371


def windows(levels, rng, *, count=60, span=20.0, slope=0.0, scatter=4e-6, wild=0.08):
    """Return times and offsets of windows that hear places in turn, and which each heard."""
    at = np.linspace(0, span, count)
    of = np.repeat(rng.integers(0, len(levels), count), 3)[:count]
    away = np.array(levels)[of] + slope * (at - at.mean()) + rng.normal(0, scatter, count)
    lost = rng.random(count) < wild
    away[lost] = rng.uniform(-1.5e-3, 1.5e-3, lost.sum())
    return at, away, of, ~lost


@pytest.mark.parametrize("levels", [(0.0,), (115e-6, -105e-6), (0.0, 400e-6, -300e-6), (0.0, 60e-6)])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_as_many_places_are_found_as_there_are_and_the_slope_is_common(levels, seed):
    slope = 7e-6
    at, away, of, sound = windows(levels, np.random.default_rng(seed), slope=slope)
    found = find_places(at, away, np.ones(at.size, bool))
    assert len(found.above_s) == len(levels)
    assert found.slope == pytest.approx(slope, abs=0.5e-6)
    heard = {number: found.of[(of == number) & sound] for number in range(len(levels))}
    for number, own in heard.items():
        place = np.bincount(own[own >= 0]).argmax()
        assert (own == place).mean() > 0.9
        base = found.above_s[np.bincount(heard[0][heard[0] >= 0]).argmax()]
        assert found.above_s[place] - base == pytest.approx(levels[number] - levels[0], abs=6e-6)


def test_a_room_that_scatters_is_one_place():
    rng = np.random.default_rng(4)
    at = np.linspace(0, 20, 50)
    for scatter in (3e-6, 20e-6, 60e-6):
        away = rng.standard_t(4, at.size) * scatter
        assert len(find_places(at, away, np.ones(at.size, bool)).above_s) == 1


def conversation(seed, places_s, seconds=20.0):
    """Return a scratch that hears each speaker at a delay of its own, and what a recorder `PPM` fast hears."""
    count = int(seconds * WORK_RATE)
    scratch, near = np.zeros(count), np.zeros(count)
    rng = np.random.default_rng(seed)
    edges = [0, *np.cumsum(rng.uniform(1.0, 3.0, 30))]
    for number, place in enumerate(places_s):
        gate = np.zeros(count)
        for turn in range(number, 30, len(places_s)):
            gate[int(edges[turn] * WORK_RATE) : int(edges[turn + 1] * WORK_RATE)] = 1
        gate = np.convolve(gate, np.hanning(400) / np.hanning(400).sum(), "same")
        voice = babble(seconds, seed * 10 + number)[:count] * gate
        scratch += delayed(voice, LATE_S + place)
        near += voice
    return hearing(scratch, 0.02, seed), hearing(delayed(near, 0.0, PPM), 0.005, seed + 1)


@pytest.mark.parametrize("places_s", [(115e-6, -105e-6), pytest.param((0.0, 450e-6), marks=pytest.mark.slow)])
def test_who_speaks_when_is_neither_drift_nor_a_jump(places_s):
    errors, inside = [], []
    for seed in range(3, 8):
        found = measure(*conversation(seed, places_s))
        assert found.decision == "matched"
        assert found.line.jumps == ()
        errors.append(found.line.ppm - PPM)
        inside.append(abs(errors[-1]) < 1.96 * found.line.se_ppm)
        # The line follows one of the places, and tells how far the other lies from it.
        offsets = [LATE_S + place for place in places_s]
        at = found.line.offset_at(0.0) if found.head_s < 1 else found.line.offset_at(found.head_s)
        assert min(abs(at - one) for one in offsets) < 2e-5
        (first, second) = found.line.places
        assert first[0] == 0
        assert abs(second[0]) == pytest.approx(abs(places_s[1] - places_s[0]), abs=8e-6)
        assert first[1] + second[1] == pytest.approx(1)
    assert np.sqrt(np.mean(np.square(errors))) < 0.6  # 12 ppm with one level for both
    assert sum(inside) >= 4
