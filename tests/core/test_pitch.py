"""Sound wound keeps its pitch, and pieces of it join without a seam."""

import numpy as np
import pytest

from vesk.core.sound.pitch import at_pitch

RATE = 48_000
SECONDS = np.arange(RATE * 8) / RATE
# A tone that rises steadily tells where one is; its own pitch there is known.
SWEEP = np.sin(2 * np.pi * (200 * SECONDS + 50 * SECONDS**2)).astype(np.float32)[:, None] * 0.5


def read(start, count):
    out = np.zeros((count, 1), np.float32)
    low, high = max(0, start), min(len(SWEEP), start + count)
    if high > low:
        out[low - start : high - start] = SWEEP[low:high]
    return out


def pitch(sound):
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(sound.size), 1 << 17))
    return np.argmax(spectrum) * RATE / (1 << 17)


@pytest.mark.parametrize("speed", [0.25, 0.5, 2.0, -0.5, -1.0, -2.0])
def test_what_is_wound_sounds_at_the_pitch_of_where_it_is(speed):
    begin = 4 * RATE
    heard = at_pitch(read, begin, 0, RATE, speed)[:, 0]
    for at in (0.2, 0.5, 0.8):
        middle = round(at * RATE)
        second = (begin + middle * speed) / RATE
        assert pitch(heard[middle - 2400 : middle + 2400]) == pytest.approx(200 + 100 * second, abs=6 + 3 * abs(speed))
    assert np.abs(heard).max() < 0.6
    pieces = [at_pitch(read, begin, first, 7000, speed) for first in range(0, 42_000, 7000)]
    assert np.array_equal(np.concatenate(pieces)[:, 0], heard[:42_000])


def test_at_its_own_speed_every_sample_is_itself():
    assert np.array_equal(at_pitch(read, 1000, 500, 300, 1.0), SWEEP[1500:1800])
