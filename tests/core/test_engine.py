"""The engine where it is hard: wrong rates, jumps, gaps, channels, claps, and what must be refused."""

import numpy as np
import pytest
from sound_material import babble, delayed, hearing, with_knocks

from vesk.core.kinds import MATCHED, REFUSED, TONE
from vesk.core.sound.coarse import Candidate
from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.hearing import Hearing
from vesk.core.sound.measure import measure, measure_channels
from vesk.core.sound.sync_points import find_sync_points
from vesk.core.sound.verify import Curves, best_line, log10_tail


@pytest.fixture(scope="module")
def scene() -> np.ndarray:
    return babble(40, 21)


@pytest.mark.parametrize("ppm", [1001.0, -4300.0, 41_666.7, -81_250.0])
def test_a_wrong_rate_is_found_without_any_hint(scene, ppm):
    found = measure(hearing(scene, 0.005), hearing(delayed(scene, 0.4, ppm), 0.005, 1))
    assert found.decision == MATCHED
    assert found.line.ppm == pytest.approx(ppm, abs=1.0)
    assert found.line.offset_s == pytest.approx(-0.4, abs=2e-5)


@pytest.mark.parametrize("samples", [-534, -17, 30, 2500])
def test_a_jump_is_found_to_the_sample_and_placed(scene, samples):
    at = 19 * WORK_RATE
    later = scene[at - samples :]
    found = measure(hearing(scene, 0.002), hearing(np.concatenate([scene[:at], later]), 0.002, 1))
    assert found.decision == MATCHED
    (jump,) = found.line.jumps
    assert jump.step_s * WORK_RATE == pytest.approx(-samples, abs=0.1)
    assert jump.samples(48_000) == 3 * samples
    assert jump.at_s == pytest.approx(19.0, abs=0.02)
    assert jump.low_s - 0.02 <= 19.0 <= jump.high_s + 0.02
    assert found.line.offset_at(5.0) == pytest.approx(0.0, abs=2e-6)
    assert found.line.offset_at(30.0) == pytest.approx(-samples / WORK_RATE, abs=2e-6)


def test_a_gap_is_no_jump_and_drift_is_no_stair(scene):
    silent = scene.copy()
    silent[15 * WORK_RATE : 19 * WORK_RATE] = 0.0
    found = measure(hearing(scene, 0.002), hearing(delayed(silent, 0.1, 250.0), 0.002, 1))
    assert found.decision == MATCHED
    assert found.line.jumps == ()
    assert found.line.ppm == pytest.approx(250.0, abs=0.5)


def test_the_clear_channel_is_found_and_a_late_mix_passed_over(scene):
    near = hearing(delayed(scene, 0.2), 0.002, 1)
    late = hearing(delayed(scene, 0.215), 0.002, 2)  # the mix comes 15 ms later out of its desk
    other = hearing(babble(40, 22))
    found = measure_channels([hearing(scene, 0.01)], [late, other, near])
    assert (found.decision, found.channel) == (MATCHED, 2)
    assert found.line.offset_s == pytest.approx(-0.2, abs=1e-5)
    told = {one.channel: one.later_s for one in found.others}
    assert told[0] == pytest.approx(0.015, abs=1e-4)
    assert told[1] is None


def test_a_quiet_scratch_of_whole_numbers_is_heard(scene):
    quiet = np.rint(scene * 30).astype(np.int16)  # 60 dB below full scale
    mapped = Hearing(quiet, hearing(scene).features, 1 / 32767)
    found = measure(mapped, hearing(delayed(scene, 0.3)))
    assert found.decision == MATCHED
    assert found.line.offset_s == pytest.approx(-0.3, abs=1e-5)


def test_claps_alone_are_matched_and_other_claps_are_not():
    at = [2.0, 6.513]
    picture = hearing(with_knocks(10, at, [1, 2], 5))
    same = measure(picture, hearing(with_knocks(10, [t + 1.25 for t in at], [1, 2], 6)))
    assert (same.decision, same.by) == (MATCHED, "sync points")
    assert same.line.offset_s == pytest.approx(-1.25, abs=1e-4)
    other = measure(picture, hearing(with_knocks(10, [t + 1.25 for t in at], [3, 4], 7)))
    assert other.decision == REFUSED


def test_claps_are_ranked_first_and_timed_at_their_attack():
    quiet = with_knocks(12, [2.0], [9], 8)
    quiet[5 * WORK_RATE :] += 0.2 * babble(7, 23)
    first = find_sync_points(quiet.astype(np.float32))[0]
    assert first.at_s == pytest.approx(2.0, abs=2e-4)
    assert first.score > 0.5
    assert all(one.score < first.score - 0.2 for one in find_sync_points(quiet.astype(np.float32))[1:])


def test_where_there_is_no_clap_nothing_is_called_one():
    """Talk, and knocks of wood on wood under it: sudden all of them, and none stands out as sticks do."""
    rng = np.random.default_rng(17)
    t = np.arange(int(0.1 * WORK_RATE)) / WORK_RATE
    for seed in range(23, 29):
        talk = np.pad(0.2 * babble(20, seed), (3 * WORK_RATE, 0)) + 0.001 * rng.normal(size=23 * WORK_RATE)
        for at in rng.uniform(1, 22, 4):
            knock = np.sin(2 * np.pi * rng.uniform(300, 900) * t) * np.exp(-t / 0.012)
            talk[int(at * WORK_RATE) :][: t.size] += 0.2 * knock
        likeliest = find_sync_points(talk.astype(np.float32))
        assert all(one.score < 0.5 for one in likeliest), likeliest[0]


def test_a_start_tone_is_heard():
    t = np.arange(4 * WORK_RATE) / WORK_RATE
    tone = np.where((t > 1.5) & (t < 2.5), 0.3 * np.sin(2 * np.pi * 1000 * t), 0.0)
    tone += 0.0005 * np.random.default_rng(1).normal(size=t.size)
    found = [one for one in find_sync_points(tone.astype(np.float32)) if one.kind == TONE]
    assert [one.at_s for one in found] == [pytest.approx(1.5, abs=0.003)]


def test_chance_is_told_as_what_it_is():
    """Under chance the false-alarm figure must be one: about a tenth of noise may reach 10 %, hardly any 0.1 %."""
    rng = np.random.default_rng(11)
    told = []
    for _ in range(200):
        surprise = rng.exponential(size=20)
        told.append(log10_tail(float(surprise.sum()), 20))
    told = np.array(told)
    assert 0.05 < (told < -1).mean() < 0.16
    assert (told < -3).sum() <= 2


def test_the_best_line_is_the_one_most_windows_lie_on():
    rng = np.random.default_rng(2)
    lags, windows = 801, 30
    at = np.linspace(0, 60, windows)
    true = np.rint(400 + 1e-4 * (at - 30) * WORK_RATE).astype(int)
    surprise = rng.exponential(size=(windows, lags)).astype(np.float32)
    heights = rng.normal(size=(windows, lags)).astype(np.float32)
    for row in range(0, windows, 2):  # half of the windows hear nothing
        surprise[row, true[row] - 3 : true[row] + 4] = 7.0
        heights[row, true[row]] = 9.0
    curves = Curves(heights, surprise, np.zeros(windows, np.int64), at)
    level, slope, _ = best_line(curves, Candidate(400 / WORK_RATE, 0.0, 9.0), 60.0)
    assert level * WORK_RATE == pytest.approx(400, abs=3)
    assert slope == pytest.approx(1e-4, abs=8e-6)


def ltc_like(seconds: float, first_frame: int) -> np.ndarray:
    """Biphase-mark timecode at 25 frames a second; enough like it to be taken for sound."""
    per_bit = WORK_RATE / (25 * 80)
    level, out = 1.0, []
    for frame in range(first_frame, first_frame + int(seconds * 25)):
        bits = [(frame >> k) & 1 for k in range(16)] + [0] * 48 + [int(c) for c in "0011111111111101"]
        for bit in bits:
            level = -level
            half = round(per_bit / 2)
            out += [level] * half
            level = -level if bit else level
            out += [level] * (round(per_bit) - half)
    return 0.3 * np.array(out)


@pytest.mark.parametrize("trap", ["timecode noise", "music that repeats", "claps of the same sticks"])
def test_traps_are_not_matched(trap):
    rng = np.random.default_rng(12)
    bar = np.tile(babble(2, 31), 10)
    one, other = {
        "timecode noise": (ltc_like(15, 1000), ltc_like(15, 5321)),
        "music that repeats": (bar[: 16 * WORK_RATE], bar[WORK_RATE : 17 * WORK_RATE]),
        "claps of the same sticks": (with_knocks(12, [3.0], [41], 1), with_knocks(12, [5.0], [42], 2)),
    }[trap]
    one, other = (sound + 1e-3 * rng.normal(size=sound.size) for sound in (one, other))
    found = measure(hearing(one), hearing(other))
    assert found.decision != MATCHED
    assert found.reason
