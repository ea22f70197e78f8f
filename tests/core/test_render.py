"""Laying sound onto picture: against sines, whose values between samples are known."""

from fractions import Fraction

import numpy as np
import pytest

from vesk.core.conform.render import LaidPiece, laid_pieces, picture_samples, render, render_block, render_range
from vesk.core.timemap import PiecewiseMap, TimeMap

RATE = 48_000
TONE = 997.0


def tone(count: int, ppm: float = 0.0) -> np.ndarray:
    at = np.arange(count) / (RATE * (1 + ppm * 1e-6))
    return np.stack([np.sin(2 * np.pi * TONE * at), 0.5 * np.cos(2 * np.pi * 3 * TONE * at)], axis=1).astype(np.float32)


def reader(sound: np.ndarray):
    def read(start: int, count: int) -> np.ndarray:
        out = np.zeros((count, sound.shape[1]), np.float32)
        low, high = max(0, start), min(sound.shape[0], start + count)
        if high > low:
            out[low - start : high - start] = sound[low:high]
        return out

    return read


def expected(at_s: np.ndarray) -> np.ndarray:
    return np.stack([np.sin(2 * np.pi * TONE * at_s), 0.5 * np.cos(2 * np.pi * 3 * TONE * at_s)], axis=1)


def test_a_whole_sample_slip_leaves_the_samples_untouched():
    sound = np.random.default_rng(1).normal(size=(5000, 2)).astype(np.float32)
    part = LaidPiece(reader(sound), 5000, TimeMap(Fraction(17, RATE)))
    assert np.array_equal(render_range(part, 17, 5000, RATE), sound)


@pytest.mark.parametrize("shift", [Fraction(1, 4), Fraction(7, 8), Fraction(-3, 10)])
@pytest.mark.parametrize("ppm", [0, 66, -350])
def test_slip_and_rate_lay_a_sine_where_it_belongs(shift, ppm):
    laid = TimeMap.with_ppm(shift / RATE, Fraction(ppm))
    part = LaidPiece(reader(tone(RATE * 3, ppm)), RATE * 3, laid)
    out = render_range(part, RATE, RATE, RATE)
    at = np.arange(RATE, 2 * RATE) / RATE - float(shift) / RATE
    # -80 dB: a sign error or a sample's slip would be -18 dB.
    assert np.abs(out - expected(at)).max() < 1e-4


def test_blocks_join_without_a_seam(monkeypatch):
    laid = TimeMap.with_ppm(Fraction(1, 7), Fraction(123))
    part = LaidPiece(reader(tone(RATE * 4, 123)), RATE * 4, laid)
    whole = np.concatenate(list(render([part], frames=RATE * 3, channels=2, sample_rate=RATE)))
    monkeypatch.setattr("vesk.core.conform.render.BLOCK", 5000)
    pieces = np.concatenate(list(render([part], frames=RATE * 3, channels=2, sample_rate=RATE)))
    inside = slice(RATE, -RATE)
    assert np.abs(whole[inside] - pieces[inside]).max() < 1e-5


def test_two_recordings_fill_one_picture_with_silence_between():
    one = LaidPiece(reader(np.full((1000, 2), 0.5, np.float32)), 1000, TimeMap(Fraction(0)))
    two = LaidPiece(reader(np.full((500, 1), 0.25, np.float32)), 500, TimeMap(Fraction(2000, RATE)))
    out = np.concatenate(list(render([one, two], frames=3000, channels=2, sample_rate=RATE)))
    assert out.shape == (3000, 2)
    assert (out[:1000] == 0.5).all()
    assert not out[1000:2000].any()
    assert (out[2000:2500, 0] == 0.25).all()
    assert not out[2000:, 1].any()
    assert not out[2500:].any()


def test_sound_is_exactly_as_long_as_its_picture():
    assert picture_samples(100, Fraction(25), RATE) == 192_000
    assert picture_samples(24, Fraction(24000, 1001), RATE) == 48_048
    assert picture_samples(1, Fraction(30000, 1001), RATE) == 1602  # 1601.6: to the nearest sample


def test_mended_jumps_put_every_sample_back_where_it_was():
    whole = np.random.default_rng(9).normal(size=(5 * RATE, 1)).astype(np.float32) * 0.1
    at, lost = 2 * RATE, 1601
    recorded = np.concatenate([whole[:at], whole[at + lost :]])
    laid = PiecewiseMap(TimeMap(Fraction(0)), ((Fraction(2), Fraction(lost, RATE)),))
    parts = laid_pieces(reader(recorded), recorded.shape[0], laid, RATE)
    out = np.concatenate(list(render(parts, frames=5 * RATE, channels=1, sample_rate=RATE)))
    np.testing.assert_array_equal(out[:at], whole[:at])
    np.testing.assert_array_equal(out[at + lost :], whole[at + lost :])
    assert not out[at : at + lost].any()


@pytest.mark.parametrize("fps", [Fraction(25), Fraction(30000, 1001)])
@pytest.mark.parametrize("ppm", [0, 61])
def test_a_run_that_is_corrected_keeps_every_joint_closed_to_the_sample(fps, ppm):
    """File by file, each from its own first frame, it is what the whole would be."""
    sound = tone(RATE * 8)
    read = reader(sound)
    laid = TimeMap.with_ppm(Fraction(-1) + Fraction(1, 977), Fraction(ppm))
    frames = [60, 47, 61]
    begins, at = Fraction(0), 0
    whole = render_block([LaidPiece(read, len(sound), laid)], 0, RATE * 7, channels=2, sample_rate=RATE)
    for count in frames:
        length = picture_samples(count, fps, RATE)
        own = laid.shifted(-begins)
        made = render_block([LaidPiece(read, len(sound), own)], 0, length, channels=2, sample_rate=RATE)
        first = begins * RATE
        if first.denominator == 1:
            assert np.abs(made - whole[int(first) : int(first) + length]).max() < 1e-4
        assert abs(float(first) - at) <= 1.0  # lengths are whole samples: they never run away from the frames
        begins += Fraction(count) / fps
        at += length
