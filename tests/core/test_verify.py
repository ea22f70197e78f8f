"""A candidate looked at: true even where the guess is rough and the rate far from nominal."""

import numpy as np
import pytest
from scipy import signal
from sound_material import babble, delayed, hearing

from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.verify import Glance, verify


@pytest.mark.parametrize(("ppm", "off_s"), [(-81_250.0, 0.012), (88_435.4, -0.015), (0.0, 0.02)])
def test_a_rough_guess_does_not_bend_the_place(ppm, off_s):
    scene = babble(24, 51)
    picture, sound = hearing(scene, 0.004), hearing(delayed(scene, 0.4, ppm), 0.004, 1)
    place = verify(picture, sound, Candidate(-0.4 + off_s, ppm + 30.0, 9.0), tried=1)
    assert place.guess.offset_s == pytest.approx(-0.4, abs=2e-4)
    assert place.guess.ppm == pytest.approx(ppm, abs=15)
    assert place.log10_false_alarm < -20


def voiced(seconds: float, seed: int, jitter: float) -> np.ndarray:
    """A voice on one note, 8.1 ms long, as steady as `jitter` says."""
    rng = np.random.default_rng(seed)
    pulses, at = np.zeros(int(seconds * WORK_RATE)), 0.0
    while at < seconds - 0.02:
        pulses[int(at * WORK_RATE)] += 1
        at += 0.0081 * (1 + jitter * rng.normal())
    band = signal.butter(2, [300, 3500], "band", fs=WORK_RATE, output="sos")
    loud = np.interp(
        np.arange(pulses.size) / WORK_RATE,
        np.arange(0, seconds, 0.3),
        rng.uniform(0.1, 1, np.arange(0, seconds, 0.3).size),
    )
    voice = signal.sosfilt(band, pulses) * loud
    return voice / np.abs(voice).max()


@pytest.mark.parametrize(("jitter", "low", "high"), [(0.005, 0.0, 0.4), (0.02, 0.0, 0.4), (0.0, 0.7, 1.2)])
def test_a_voices_own_pitch_is_no_repetition_and_a_machines_is(jitter, low, high):
    voice = voiced(20, 5, jitter)
    place = verify(hearing(delayed(voice, 0.7), 0.02, 1), hearing(voice, 0.005, 2), Candidate(0.7, 0, 1), tried=1)
    assert place.log10_false_alarm < -20
    assert low <= place.repeat_ratio <= high


def test_a_glance_falls_on_the_windows_in_which_something_is_heard_and_says_what_a_full_look_does():
    """Every fourth window, as was looked at before, holds nothing here."""
    scene = babble(60, 52) * (np.arange(60 * WORK_RATE) / WORK_RATE % 9 > 8)
    picture, sound = hearing(scene, 0.004), hearing(delayed(scene, 0.4), 0.004, 1)
    guess, glance = Candidate(-0.4, 0.0, 9.0), Glance(8, -4.0)
    full, glanced = verify(picture, sound, guess, tried=1), verify(picture, sound, guess, tried=1, glance=glance)
    assert glanced.log10_false_alarm == pytest.approx(full.log10_false_alarm)
    assert glanced.at_middle_s == pytest.approx(full.at_middle_s)
    assert verify(picture, sound, Candidate(7.0, 0.0, 9.0), tried=1, glance=glance) is None
