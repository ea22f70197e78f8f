"""Shared playback is common sound; what each recording holds besides tells two events from one."""

import numpy as np
import pytest
from sound_material import babble, delayed, hearing, talk

from vesk.core.kinds import AMBIGUOUS, MATCHED
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.measure import measure, measure_channels
from vesk.simulator.noises import knocks, wind, with_hits
from vesk.simulator.paths import with_noise

LATER = WORK_RATE // 2


@pytest.fixture(scope="module")
def playback() -> np.ndarray:
    return babble(30, 61)


def test_playback_shared_by_two_takes_does_not_settle_which(playback):
    one, other = (playback + talk(30, seed) for seed in (62, 63))
    found = measure(hearing(one, 0.003), hearing(other[LATER:], 0.002, 1))
    assert found.decision == AMBIGUOUS
    assert "playback" in found.reason
    assert found.line.offset_s == pytest.approx(0.5, abs=1e-4)


def test_playback_under_the_same_talk_is_matched_and_noise_of_one_side_changes_nothing(playback):
    event = playback + babble(30, 62)
    noisy = event + 0.7 * babble(30, 64)  # people near the camera, whom the recorder does not hear
    found = measure(hearing(noisy, 0.003), hearing(event[LATER:], 0.002, 1))
    assert found.decision == MATCHED


def turns(seconds: float, seed: int, count: int) -> list[np.ndarray]:
    """Return who speaks when: one gate a speaker, never two at once."""
    size = int(seconds * WORK_RATE)
    edges = [0, *np.cumsum(np.random.default_rng(seed).uniform(1.0, 3.0, 60))]
    gates = []
    for speaker in range(count):
        gate = np.zeros(size)
        for turn in range(speaker, 60, count):
            gate[int(edges[turn] * WORK_RATE) : int(edges[turn + 1] * WORK_RATE)] = 1
        gates.append(np.convolve(gate, np.hanning(400) / 200, "same"))
    return gates


def conversation(seed: int) -> tuple[list, list, list]:
    """Return a scratch that hears two people, a lav on each that hears little of the other, and asides, and a mix."""
    seconds = 30
    one, other = (talk(seconds, seed * 10 + k) * gate for k, gate in enumerate(turns(seconds, seed, 2)))
    asides = [0.8 * talk(seconds, seed * 10 + 5 + k) * turns(seconds, seed + 50, 3)[k] for k in range(2)]
    scratch = hearing(delayed(one, 0.4) + delayed(other, 0.4001), 0.02, seed)
    lavs = [hearing(one + 0.003 * other + asides[0], 0.002, seed + 1)]
    lavs.append(hearing(other + 0.003 * one + asides[1], 0.002, seed + 2))
    return [scratch], lavs, [lavs[0], hearing(one + other, 0.002, seed + 3)]


@pytest.mark.parametrize("seed", [1, 2])
def test_a_lav_that_misses_one_voice_is_no_other_event_where_the_next_channel_holds_it(seed):
    scratch, lavs, with_mix = conversation(seed)
    assert measure_channels(scratch, lavs[:1]).decision == "ambiguous"  # with one lav alone it may be another take
    assert measure_channels(scratch, lavs).decision == "matched"
    assert measure_channels(scratch, with_mix).decision == "matched"


@pytest.mark.parametrize("seed", [3, 6])
def test_a_playback_under_two_takes_is_two_events_on_however_many_channels(seed):
    seconds = 30
    playback = babble(seconds, seed * 100)
    said, other = (talk(seconds, seed * 100 + k) for k in (1, 2))
    channels = [hearing(playback + level * other, 0.002, seed + 20 + n) for n, level in enumerate((1.0, 0.6, 1.6))]
    found = measure_channels([hearing(delayed(playback + said, 0.4), 0.01, seed)], channels)
    assert found.decision == "ambiguous"
    assert "the other lacks" in found.reason


@pytest.mark.parametrize("seed", [1, 2])
def test_hits_on_a_radio_link_and_a_camera_that_is_knocked_are_no_events_of_their_own(seed):
    """All of these were ambiguous: each holds loud sound that the other lacks."""
    said = talk(30, seed)
    scratch = with_noise(said, knocks(said.size, WORK_RATE, seed=seed), -10)
    lav = with_hits(delayed(said, 0.4).astype(np.float32), WORK_RATE, seed=seed + 7)
    found = measure(hearing(scratch, 0.01, seed), hearing(lav, 0.002, seed + 1))
    assert found.decision == MATCHED, found.reason
    assert found.line.offset_s == pytest.approx(-0.4, abs=1e-4)


@pytest.mark.parametrize("seed", [1, 2])
def test_wind_on_both_microphones_is_no_second_event(seed):
    said = talk(30, seed)
    scratch, boom = (with_noise(said, wind(said.size, WORK_RATE, seed=10 * seed + n), -10) for n in (0, 1))
    found = measure(hearing(scratch, 0.003, seed), hearing(delayed(boom, 0.4), 0.002, seed + 1))
    assert found.decision == MATCHED, found.reason
    assert found.line.offset_s == pytest.approx(-0.4, abs=1e-4)


def test_what_was_said_while_a_radio_link_was_lost_is_not_asked_for():
    said = talk(30, 5)
    at = np.arange(said.size) / WORK_RATE
    aside = talk(30, 6) * (at % 6 < 0.5)  # under the breath of who wears the lav
    lav = hearing(
        np.where(at % 1.5 < 0.2, 0, said + aside + 0.001 * np.random.default_rng(7).normal(size=said.size)), 0
    )
    found = measure(hearing(said, 0.003, 1), lav)
    assert found.decision == MATCHED, found.reason
