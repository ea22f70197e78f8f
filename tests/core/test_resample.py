"""Bringing sound to another rate: nothing later, nothing lost in the band, nothing let into it."""

import numpy as np
import pytest
import soxr

from vesk.core.sound.resample import Decimator, lowering

RATE = 16_000


def lowered(sound, by, piece):
    down = lowering(by * RATE, RATE)
    assert isinstance(down, Decimator)
    parts = [down.resample_chunk(sound[at : at + piece]) for at in range(0, sound.size, piece)]
    return np.concatenate([*parts, down.resample_chunk(np.zeros(0, np.float32), last=True)])


@pytest.mark.parametrize(("by", "piece"), [(2, 777), (3, 1 << 15), (3, 10), (6, 50_001), (12, 1 << 19)])
def test_a_whole_part_of_a_rate_is_where_it_was_flat_in_its_band_and_silent_above(by, piece):
    at = np.arange(by * RATE // (20 if piece < 100 else 1) + 1) / (by * RATE)
    for hz, stays in ((90, True), (3_001, True), (7_600, True), (8_400, False), (0.5 * by * RATE - 50, False)):
        made = lowered(np.sin(2 * np.pi * hz * at + 0.3).astype(np.float32), by, piece)
        assert made.size == round(at.size / by)
        wanted = np.sin(2 * np.pi * hz * at[: by * made.size : by] + 0.3) * stays
        # A sample's shift of 16 kHz would be an error of 0.04 at 90 Hz; at its ends a sound is cut off.
        assert np.abs(made[: wanted.size] - wanted)[150:-150].max() < 2e-4


def test_noise_comes_out_as_from_the_library_and_short_sounds_whole():
    rng = np.random.default_rng(5)
    noise = soxr.resample(rng.normal(size=RATE), RATE, 3 * RATE).astype(np.float32)  # up to 8 kHz, and no more
    made, known = lowered(noise, 3, 9_999), soxr.resample(noise, 3 * RATE, RATE)
    error = np.abs(np.fft.rfft(made) - np.fft.rfft(known))[: int(0.45 * made.size)]  # bins of a hertz: 7.2 kHz
    assert np.sqrt(np.mean(error**2)) < 1e-3 * np.sqrt(np.mean(np.abs(np.fft.rfft(known)) ** 2))
    for count in (0, 1, 2, 4, 143, 145):
        assert lowered(np.ones(count, np.float32), 3, 50).size == round(count / 3)
    assert not isinstance(lowering(44_100, RATE), Decimator)
    assert lowering(44_100, RATE).resample_chunk(np.zeros(44_100, np.float32), last=True).size == RATE
