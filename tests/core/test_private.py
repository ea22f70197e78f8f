"""Shared playback is common sound; what each recording holds besides tells two events from one."""

import numpy as np
import pytest
from sound_material import babble, hearing

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure
from vesk.core.sound.measurement import AMBIGUOUS, MATCHED

LATER = WORK_RATE // 2


@pytest.fixture(scope="module")
def playback() -> np.ndarray:
    return babble(30, 61)


def test_playback_shared_by_two_takes_does_not_settle_which(playback):
    one, other = (playback + babble(30, seed) for seed in (62, 63))
    found = measure(hearing(one, 0.003), hearing(other[LATER:], 0.002, 1))
    assert found.decision == AMBIGUOUS
    assert "playback" in found.reason
    assert found.line.offset_s == pytest.approx(0.5, abs=1e-4)


def test_playback_under_the_same_talk_is_matched_and_noise_of_one_side_changes_nothing(playback):
    event = playback + babble(30, 62)
    noisy = event + 0.7 * babble(30, 64)  # people near the camera, whom the recorder does not hear
    found = measure(hearing(noisy, 0.003), hearing(event[LATER:], 0.002, 1))
    assert found.decision == MATCHED
