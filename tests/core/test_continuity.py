"""Whether sound goes on across a joint: against signals whose truth is known."""

import numpy as np
import pytest
from scipy.signal import lfilter

from vesk.core.sound.continuity import continuity, together

RATE = 48_000
NEAR = RATE // 10
SURE, BROKEN = 5.0, -10.0  # nats


def hum(seed: int, *, colour: float = 0.999) -> np.ndarray:
    """Noise whose colour lies far below the sample rate, as of any room."""
    noise = np.random.default_rng(seed).standard_normal(RATE)
    return (0.02 * lfilter([1.0], [1.0, -2 * colour, colour**2], noise) / 100).astype(np.float32)


def test_what_was_cut_goes_on_and_what_was_not_breaks():
    goes_on = breaks = 0
    for seed in range(12):
        one, other = hum(seed), hum(seed + 100)
        middle = RATE // 2
        same = continuity(one[middle - NEAR : middle], one[middle : middle + NEAR], RATE)
        goes_on += same > SURE
        assert same > -3
        for wrong in (other[middle:], one[middle + 400 :]):
            apart = continuity(one[middle - NEAR : middle], wrong[:NEAR], RATE)
            breaks += apart < BROKEN
            assert apart < SURE
    assert goes_on >= 11
    assert breaks >= 21


def test_white_noise_and_silence_tell_nothing():
    noise = np.random.default_rng(3).standard_normal(2 * NEAR).astype(np.float32) * 0.1
    assert BROKEN < continuity(noise[:NEAR], noise[NEAR:], RATE) < SURE
    other = np.random.default_rng(4).standard_normal(NEAR).astype(np.float32) * 0.1
    assert BROKEN < continuity(noise[:NEAR], other, RATE) < SURE
    assert continuity(np.zeros(NEAR, np.float32), noise[:NEAR], RATE) == 0
    assert continuity(noise[:50], noise[50:], RATE) == 0  # too short to tell


@pytest.mark.parametrize("louder", [1.0, 30.0])
def test_sound_that_gets_louder_at_the_joint_is_no_break(louder):
    broken = 0
    for seed in range(20):
        excited = np.random.default_rng(seed).standard_normal(2 * NEAR)
        excited[NEAR:] *= louder
        sound = lfilter([1.0], [1.0, -1.6, 0.8], excited).astype(np.float32) * 0.001
        broken += continuity(sound[:NEAR], sound[NEAR:], RATE) < BROKEN
    assert broken <= (0 if louder == 1 else 2)


def test_one_channel_that_breaks_outweighs_those_that_go_on():
    assert together([20.0, -20.0]) == -20
    assert together([20.0, -1.0]) == 20
    assert together([]) == 0
