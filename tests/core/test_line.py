"""The line that a measurement gives: its sign, its jumps, its errors; and what is kept of it."""

import pytest
from sound_material import babble, hearing

from vesk.core.kinds import MATCHED
from vesk.core.sound.coarse import prepare, search
from vesk.core.sound.features import onset_features
from vesk.core.sound.measurement import MEASUREMENT, Jump, Line, Measurement, OtherChannel, Rival, TracePoint

LOST = Jump(30.0, 0.02, 29.9, 30.1, 1e-6)
LINE = Line(20.0, -1.5, 50.0, 3e-6, 0.1, (LOST,), ((9e-12, 0.0, 0.0), (0.0, 1e-14, 0.0), (0.0, 0.0, 1e-12)))


def test_a_fast_recorder_lies_ever_later_and_a_loss_steps_up():
    assert LINE.offset_at(20.0) == pytest.approx(-1.5)
    assert LINE.offset_at(10.0) == pytest.approx(-1.5 + 50e-6 * 10)
    assert LINE.offset_at(40.0) == pytest.approx(-1.5 - 50e-6 * 20 + 0.02)
    assert LOST.samples(48_000) == -960
    # Sample 0 of the sound lies where picture time less its offset is nothing.
    assert LINE.offset_s - LINE.offset_at(LINE.offset_s) == pytest.approx(0.0, abs=1e-12)


def test_errors_grow_away_from_the_middle_and_past_a_jump():
    assert LINE.standard_error_at(20.0) == pytest.approx(3e-6)
    assert LINE.standard_error_at(10.0) == pytest.approx((9e-12 + 1e-12) ** 0.5)
    assert LINE.standard_error_at(30.5) > LINE.standard_error_at(9.5)
    assert LINE.band_at(20.0) > 50e-6  # what is shown claims no more than the world allows


def test_a_measurement_is_kept_whole():
    found = Measurement(
        MATCHED, "", LINE, 0.0, 20.0, 40.0, (TracePoint(1.0, -1.5, 0.9, agrees=True),), 0.95, -40.0, 3.0, 0.1, 2,
        (1.0, 20.0, 39.0), (Rival(-1.5, 50.0, 1.0, -40.0),), 1, (OtherChannel(0, 12.0, None),), -1, "sync points",
    )  # fmt: skip
    assert MEASUREMENT.load(MEASUREMENT.dump(found)) == found


def test_a_prepared_recording_is_searched_the_same():
    scene = babble(50, 61)
    long, short = onset_features(hearing(scene).sound), hearing(scene[16_000 * 12 : 16_000 * 30]).features
    assert search(long, short, prepared=prepare(long)) == search(long, short)
    assert search(long, short)[0].offset_s == pytest.approx(12.0, abs=0.02)
    # Turned round, the shorter one stands for the picture.
    assert search(short, long, prepared=prepare(long))[0].offset_s == pytest.approx(-12.0, abs=0.02)
    assert search(long, short, around_s=30.0, reach_s=2.0)[:1] != search(long, short)[:1]
    assert search(long[:100], short) == []
