"""Levels against hand-made channels."""

import numpy as np
import pytest

from vesk.core.sound.features import WORK_RATE
from vesk.core.sound.levels import LevelMeter, hum_share


def test_levels_and_clipping_over_blocks():
    t = np.arange(48_000) / 48_000
    sine = 0.5 * np.sin(2 * np.pi * 440 * t)
    over = np.clip(3 * np.sin(2 * np.pi * 100 * t), -1, 1)
    sound = np.stack([sine, over, np.zeros(t.size)], axis=1).astype(np.float32)
    told = []
    for channel in sound.T:
        meter = LevelMeter()
        for start in range(0, t.size, 7000):
            meter.feed(channel[start : start + 7000])
        told.append(meter.finish())
    quiet, loud, silent = told
    assert (quiet.peak_db, quiet.rms_db, quiet.clipped) == (
        pytest.approx(-6.02, abs=0.01),
        pytest.approx(-9.03, abs=0.01),
        0,
    )
    assert 195 <= loud.clipped <= 207  # two a period; a block's edge may cut one in two
    assert (silent.peak_db, silent.clipped) == (-200.0, 0)


@pytest.mark.parametrize(("mains", "share"), [(50.0, 0.9), (60.1, 0.8)])
def test_hum_is_told_from_room_tone(mains, share):
    t = np.arange(30 * WORK_RATE) / WORK_RATE
    tone = 0.002 * np.random.default_rng(1).normal(size=t.size)
    hum = sum(0.02 / k * np.sin(2 * np.pi * mains * k * t) for k in (1, 2, 3, 4))
    assert hum_share(tone.astype(np.float32)) < 0.1
    assert hum_share((tone + hum).astype(np.float32)) > share
