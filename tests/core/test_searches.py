"""The coarse searches, by onsets and by waveform, and matching by claps alone."""

import numpy as np
import pytest
from sound_material import babble, delayed, hearing, with_knocks

from vesk.core.kinds import MATCHED
from vesk.core.sound.by_sync_points import match_by_sync_points, speak_apart
from vesk.core.sound.by_waveform import search_by_waveform
from vesk.core.sound.coarse import Candidate, correlate, distinct, prepare, search, transform
from vesk.core.sound.features import FEATURE_RATE, WORK_RATE, OnsetBuilder, onset_features
from vesk.core.sound.measure import measure


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return babble(60, 101)


@pytest.mark.parametrize("start_s", [0.0, 17.43, 40.0])
@pytest.mark.parametrize("swap", [False, True])
def test_a_clip_is_found_in_a_long_recording_either_way_round(scene, start_s, swap):
    clip = scene[int(start_s * WORK_RATE) :][: 15 * WORK_RATE]
    long, short = onset_features(scene.astype(np.float32)), onset_features(clip.astype(np.float32))
    (best, *others) = search(short, long, prepared=prepare(long)) if swap else search(long, short)
    assert best.offset_s == pytest.approx(-start_s if swap else start_s, abs=0.02)
    assert all(other.score < 0.7 * best.score for other in others)


@pytest.mark.parametrize("ppm", [-450.0, 1000.0])
def test_drift_is_followed_and_told(scene, ppm):
    fast = delayed(scene, 0.0, ppm)
    rates = (0.0,) if abs(ppm) < 600 else (-1000.0, 1000.0)
    best = search(hearing(scene).features, hearing(fast).features, rates_ppm=rates)[0]
    assert best.ppm == pytest.approx(ppm, abs=200)
    assert best.offset_s == pytest.approx(0.0, abs=0.06)


def test_the_search_around_a_place_looks_nowhere_else(scene):
    features = hearing(scene).features
    assert all(abs(one.offset_s - 9.0) <= 2.0 for one in search(features, features, around_s=9.0, reach_s=2.0))
    assert search(features, features[:40]) == []


def test_a_correlation_is_the_sum_of_products():
    rng = np.random.default_rng(1)
    values = rng.normal(size=(700, 4)).astype(np.float32)
    segment = rng.normal(size=(60, 4)).astype(np.float32)
    curve = correlate(transform(values, FEATURE_RATE, segment_s=1.0), segment)
    lag = 333
    met = values[lag : lag + 60]
    energy = float((met**2).sum()) * float((segment**2).sum(axis=1).mean())
    assert curve[lag + 59] == pytest.approx(float((met * segment).sum()) / np.sqrt(energy / 4), rel=1e-4)


def test_candidates_for_one_place_count_once():
    same = [
        Candidate(1.0, 0.0, 9.0),
        Candidate(1.05, 0.0, 8.0),
        Candidate(1.3, 10_000.0, 7.0),
        Candidate(3.0, 0.0, 5.0),
    ]
    assert [one.score for one in distinct(same, 5, turn_s=30.0)] == [9.0, 5.0]


def test_waveforms_find_what_onsets_cannot_hear(scene):
    clip = scene[10 * WORK_RATE : 24 * WORK_RATE]
    loud = float(np.sqrt(np.mean(clip**2))) * 10 ** (9 / 20)  # noise 9 dB above the talk
    noisy = hearing(clip, loud, 5)
    best = search_by_waveform(noisy, hearing(scene, 0.001))[0]
    assert best.offset_s == pytest.approx(-10.0, abs=0.006)


def test_features_do_not_depend_on_the_pieces_they_come_in(scene):
    sound = scene[: 7 * WORK_RATE + 77].astype(np.float32)
    builder = OnsetBuilder()
    for start in range(0, sound.size, 5_003):
        builder.feed(sound[start : start + 5_003])
    assert np.abs(np.concatenate([*builder.finish()]).astype(float) - onset_features(sound).astype(float)).max() < 0.02
    assert onset_features(sound[:100]).shape == (0, 16)


def test_claps_tell_offset_polarity_and_their_own_doubt():
    at = [2.0, 5.31, 9.0]
    picture = hearing(-with_knocks(12, at, [1, 2, 3], 5))
    found = match_by_sync_points(picture, hearing(with_knocks(12, [t + 0.8 for t in at], [1, 2, 3], 6)))
    assert found.offset_s == pytest.approx(-0.8, abs=1e-4)
    assert found.polarity == -1
    assert [round(when, 2) for when, _ in found.claps] == at
    assert found.log10_false_alarm < -8
    assert match_by_sync_points(picture, hearing(0.0005 * np.random.default_rng(1).normal(size=WORK_RATE * 5))) is None


def test_one_sound_alike_is_no_match_where_both_also_speak_and_say_different_things():
    """An effect that two takes share bit for bit, and talk beside it that only one of them holds each."""
    quiet = [with_knocks(14, [at], [7], seed) for at, seed in ((3.0, 1), (5.0, 2))]
    alone = match_by_sync_points(hearing(quiet[0]), hearing(quiet[1]))
    assert alone is not None
    assert alone.log10_false_alarm < -6
    assert not speak_apart(hearing(quiet[0]), hearing(quiet[1]), alone)
    talking = []
    for take, (sound, seed) in enumerate(zip(quiet, (61, 62), strict=True)):
        voice = 0.05 * babble(8, seed)
        sound = sound.copy()  # noqa: PLW2901 - the same take, with talk
        sound[(5 + take) * WORK_RATE :][: voice.size] += voice
        talking.append(hearing(sound))
    found = match_by_sync_points(*talking)
    assert found is not None
    assert speak_apart(*talking, found)
    assert measure(*talking).decision != "matched"


@pytest.mark.parametrize("seed", [71, 73, 75])
def test_one_slam_played_into_two_takes_of_talk_without_a_pause_is_no_match(seed):
    """Who never pauses stood out over no quiet, and the slam, the same to the bit, was believed alone."""
    slam = np.random.default_rng(seed).normal(size=WORK_RATE) * np.exp(-np.arange(WORK_RATE) / (0.05 * WORK_RATE)) * 0.6
    takes = []
    for take in (0, 1):
        talk = 0.2 * babble(20, seed + take)
        talk[(6 + 3 * take) * WORK_RATE :][: slam.size] += slam
        takes.append(hearing(talk, 0.0005, seed + take))
    found = match_by_sync_points(*takes)
    assert found.log10_false_alarm < -6
    assert speak_apart(*takes, found)
    assert measure(*takes).decision != MATCHED


def test_what_rings_on_is_no_clap():
    """A syllable that falls for 400 ms is alike in two takes of the same lines; sticks are gone in a fifth of that."""
    ring = np.random.default_rng(4).normal(size=WORK_RATE) * np.exp(-np.arange(WORK_RATE) / (0.174 * WORK_RATE)) * 0.3
    takes = []
    for at, seed in ((3.0, 5), (4.2, 6)):
        sound = 0.0005 * np.random.default_rng(seed).normal(size=WORK_RATE * 10)
        sound[int(at * WORK_RATE) :][: ring.size] += ring
        takes.append(hearing(sound))
    assert match_by_sync_points(*takes) is None


def in_a_room(sound, seed, amount):
    """A sound with a room's answer, which begins two milliseconds after it."""
    rng = np.random.default_rng(seed)
    tail = rng.normal(size=5600) * 10 ** (-3 * np.arange(5600) / 7200)
    tail[:32] = 0
    tail *= np.sqrt(amount / (tail**2).sum())
    return sound + np.convolve(sound, tail)[: sound.size]


def test_one_clap_heard_in_two_rooms_is_one_and_another_of_the_same_sticks_is_not():
    def heard(seed, room, amount):
        return hearing(in_a_room(with_knocks(8.0, [3.0], [seed], room), room, amount))

    for seed in range(3):
        scratch = heard(seed, 2 * seed, 0.5)
        found = measure(scratch, heard(seed, 2 * seed + 1, 0.15))
        assert found.decision == MATCHED
        assert abs(found.line.offset_s) < 1e-4
        assert measure(scratch, heard(seed + 50, 2 * seed + 1, 0.15)).decision != MATCHED
