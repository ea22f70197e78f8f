"""Filters that are known by their response, held against the sums that define them."""

import numpy as np
import pytest

from vesk.core.sound.filters import SIZE, filtered, of_taps, second_order, tenth


def butterworth(sound, hertz, kind, rate):
    """Filter sample by sample: the difference equation of second order, as textbooks give it."""
    k = np.tan(np.pi * hertz / rate)
    scale = 1 / (1 + np.sqrt(2) * k + k * k)
    b = (scale, -2 * scale, scale) if kind == "high" else (k * k * scale, 2 * k * k * scale, k * k * scale)
    a = (2 * (k * k - 1) * scale, (1 - np.sqrt(2) * k + k * k) * scale)
    out = np.zeros(sound.size + 2)
    x = np.concatenate([np.zeros(2), sound])
    for n in range(2, x.size):
        out[n] = b[0] * x[n] + b[1] * x[n - 1] + b[2] * x[n - 2] - a[0] * out[n - 1] - a[1] * out[n - 2]
    return out[2:]


@pytest.mark.parametrize(("hertz", "kind"), [(700, "high"), (2500, "high"), (400, "low")])
def test_a_sound_passes_as_through_the_sum_that_defines_the_filter_also_across_blocks(hertz, kind):
    sound = np.random.default_rng(3).normal(size=2 * SIZE + 77).astype(np.float32)
    response = second_order(hertz, kind, 16_000)
    assert np.abs(filtered(sound, response)[0] - butterworth(sound, hertz, kind, 16_000)).max() < 1e-5
    for few in (0, 1, 200):
        assert np.array_equal(filtered(sound[:few], response)[0].shape, (few,))


def test_several_filters_are_passed_at_once_and_taps_are_one():
    sound = np.random.default_rng(4).normal(size=9000).astype(np.float32)
    taps = np.random.default_rng(5).normal(size=SIZE // 16)
    late, own = filtered(sound, of_taps(np.array([0.0, 0.0, 1.0])), of_taps(taps))
    assert np.abs(late[2:] - sound[:-2]).max() < 1e-5
    assert np.abs(own - np.convolve(sound, taps)[: sound.size]).max() < 1e-3


@pytest.mark.parametrize("size", [101, 2400, 2407])
def test_a_tenth_keeps_what_is_slow_and_loses_what_would_be_taken_for_it(size):
    at = np.arange(size)
    slow, fast = np.cos(2 * np.pi * at / 200), np.cos(2 * np.pi * at / 4.9)
    kept = tenth(slow + fast)
    assert kept.shape == (-(-size // 10),)
    inner = slice(11, -11) if size > 220 else slice(5, 6)
    assert np.abs(kept - slow[::10])[inner].max() < 0.02
