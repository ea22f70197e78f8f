"""Measuring by sound against truth made here: no file, no simulator, no resampler shared with the product."""

import numpy as np
import pytest
from scipy import fft
from sound_material import babble, delayed, hearing, talk

from vesk.core.kinds import AMBIGUOUS, MATCHED, REFUSED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.mains import without_hum
from vesk.core.sound.measure import measure
from vesk.core.sound.windows import whitened


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return babble(40, 1)


@pytest.mark.parametrize("samples", [0.0, 0.37, -1234.5, 8000.123])
def test_an_odd_fraction_of_a_sample_without_drift_or_noise(scene, samples):
    """A wrong sign of the sub-sample step hides in drift: so first without any."""
    late = samples / WORK_RATE  # the event comes `late` later on the recorder: its sample 0 lies earlier
    found = measure(hearing(scene), hearing(delayed(scene, late)))
    assert found.decision == MATCHED
    assert found.line.offset_s == pytest.approx(-late, abs=1e-6)
    assert abs(found.line.ppm) < 0.1


@pytest.mark.parametrize("ppm", [-180.0, 66.2, 400.0])
def test_drift_is_found_with_its_sign(scene, ppm):
    found = measure(hearing(scene, 0.01), hearing(delayed(scene, 0.5, ppm), 0.01, 1), proposal_s=-0.4)
    assert found.decision == MATCHED
    assert found.line.ppm == pytest.approx(ppm, abs=max(1.0, 4 * found.line.se_ppm))
    assert found.line.offset_s == pytest.approx(-0.5, abs=30e-6)


def test_swapping_the_two_inverts_the_map(scene):
    picture, sound = hearing(scene, 0.01), hearing(delayed(scene, 0.7123, 120.0), 0.01, 2)
    one, other = measure(picture, sound).line, measure(sound, picture).line
    assert other.ppm == pytest.approx(-one.ppm, abs=0.5)
    assert other.offset_s == pytest.approx(-one.offset_s * (1 + one.ppm * 1e-6), abs=20e-6)


def test_gain_and_polarity_change_nothing(scene):
    sound = delayed(scene, 0.25)
    plain = measure(hearing(scene), hearing(sound)).line
    turned = measure(hearing(scene), hearing(-0.02 * sound)).line
    assert turned.offset_s == pytest.approx(plain.offset_s, abs=1e-6)
    quiet = measure(hearing(scene), hearing(0.02 * sound)).line
    assert quiet.offset_s == pytest.approx(plain.offset_s, abs=1e-6)


def test_a_proposal_that_is_wrong_is_searched_past():
    scene = babble(60, 3)
    found = measure(hearing(scene[: 20 * WORK_RATE]), hearing(scene), proposal_s=25.0, reach_s=2.0)
    assert found.decision == MATCHED
    assert found.line.offset_s == pytest.approx(0.0, abs=1e-5)
    found = measure(hearing(scene[37 * WORK_RATE :]), hearing(scene), proposal_s=0.0)
    assert found.line.offset_s == pytest.approx(-37.0, abs=1e-5)


def test_noise_as_loud_as_the_sound_is_survived_and_admitted():
    scene = babble(40, 4)
    loud = float(scene.std())
    found = measure(hearing(scene, loud, 5), hearing(delayed(scene, 0.31), 0.1 * loud, 6), proposal_s=-0.3)
    assert found.decision == MATCHED
    assert abs(found.line.offset_s + 0.31) < 40e-6
    assert found.line.se_middle_s > 1e-7


@pytest.mark.parametrize("trap", ["other take", "hum", "noise", "silence", "short"])
def test_what_shares_no_sound_is_refused_with_a_reason(trap):
    count = 20 * WORK_RATE
    t = np.arange(count) / WORK_RATE
    rng = np.random.default_rng(7)
    hum = sum(np.sin(2 * np.pi * 50 * k * t) / k for k in range(1, 30)) * 0.1
    one, two = {
        "other take": (babble(20, 8), babble(20, 9)),
        "hum": (hum + 0.02 * rng.normal(size=count), hum + 0.02 * rng.normal(size=count)),
        "noise": (rng.normal(size=count), rng.normal(size=count)),
        "silence": (babble(20, 8), np.zeros(count)),
        "short": (babble(20, 8), babble(20, 8)[:800]),
    }[trap]
    found = measure(hearing(one), hearing(two))
    assert found.decision == REFUSED
    assert found.line is None
    assert found.reason


def test_a_playback_under_the_talk_of_two_takes_is_ambiguous_and_not_asked_again_without_its_tones(monkeypatch):
    """A tune that held tones at 50 Hz was taken for hum, and what was left was matched."""
    asked = []
    monkeypatch.setattr("vesk.core.sound.measure.find_hum", asked.append)
    played = babble(24, 21)
    one, other = (played + talk(24, 22 + take) for take in (0, 1))
    found = measure(hearing(one, 0.003), hearing(other, 0.003, 1))
    assert found.decision == AMBIGUOUS
    assert "each holds loud sound" in found.reason
    assert asked == []


def test_the_same_sound_played_twice_is_ambiguous():
    piece = babble(12, 10)
    twice = np.concatenate([piece, np.zeros(2 * WORK_RATE), piece])
    found = measure(hearing(piece, 0.003), hearing(twice, 0.003, 1))
    assert found.decision == AMBIGUOUS
    assert "two places" in found.reason
    assert abs(found.line.offset_s - found.runner_up_s) == pytest.approx(14.0, abs=0.01)


def buzz(count, phase):
    """Mains hum with all of its harmonics, as a dimmer makes it: alike wherever it is heard, but for its phase."""
    t = np.arange(count) / WORK_RATE
    return sum(np.sin(2 * np.pi * 50 * k * t + phase * k) / k**0.7 for k in range(1, 60))


def test_nothing_of_a_buzz_is_left_that_two_recordings_would_have_in_common():
    """Brought down to what lies beside it, its phase alone made one of two other takes."""
    rng, count = np.random.default_rng(1), 20 * WORK_RATE
    noises = [rng.normal(size=count) for _ in range(2)]
    one, other = (fft.rfft(without_hum(hearing(noise + buzz(count, 0.4)), 50.0).sound)[None] for noise in noises)
    alike = fft.irfft(whitened(one, other, WORK_RATE / count), count)[0]
    turns = alike[np.arange(100) * WORK_RATE // 50]
    assert abs(turns.mean()) < 4 * alike.std() / 10


def test_a_buzz_as_loud_as_the_talk_on_both_hides_no_pair_and_makes_none():
    talk, other = babble(16.0, 3), babble(16.0, 4)
    level = 1.0 * np.std(talk)
    scratch = hearing(delayed(talk, 0.4371) + level / 3 * buzz(talk.size, 0.4), 0.002)
    same = hearing(talk + level / 3 * buzz(talk.size, 1.7), 0.002, 1)
    found = measure(scratch, same)
    assert found.decision == "matched"
    assert found.line.offset_s == pytest.approx(0.4371, abs=2e-5)
    assert measure(scratch, hearing(other + level / 3 * buzz(talk.size, 1.7), 0.002, 2)).decision != "matched"
