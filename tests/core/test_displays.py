"""Displays and lights seen in pictures, and two devices fed with one clock: what is off is named, nothing invented."""

from dataclasses import replace

import numpy as np
import pytest

from vesk.core.day.against import Sighting
from vesk.core.day.displays import Light, Reading, tell, tell_lights
from vesk.core.day.parting import partings
from vesk.core.kinds import Witness

FRAME = 0.04
NINE = 9 * 3600.0


def read(hour, off, *, device="A", ahead=0.0, name="slate"):
    return Reading(name, device, hour * 3600.0, off * FRAME, None if ahead is None else ahead * FRAME, FRAME)


def test_a_display_that_hurries_is_the_one_that_is_off_when_the_files_agree_with_each_other():
    (one,) = tell([read(9, 1), read(12, 2), read(15, 3, device="C"), read(17, 3)])
    assert one.hourly == pytest.approx(0.28, abs=0.05)
    assert "read 4 times in A and C" in one.says
    assert "the display is off by 1 to 3 frames, ahead, and hurries by 0.2" in one.says
    assert one.says.endswith("the files agree with each other")
    (still,) = tell([read(9, 0), read(12, 1), read(17, 0)])
    assert still.hourly is None  # a frame either way is how labels are read
    assert still.says.endswith("it agrees with the files and with everything else")
    (steady,) = tell([read(9, -2), read(17, -2)])
    assert "the display is off by 2 frames, behind, and keeps step" in steady.says


def test_cameras_whose_clocks_differ_do_not_make_the_display_wrong():
    # C's clock is two frames ahead, as sound found: the display seems two behind in its picture alone.
    (one,) = tell([read(9, 0), read(10, 0), read(11, -2, device="C", ahead=2.0)])
    assert "it agrees with the day as a whole" in one.says
    assert "their clocks are what is off" in one.says
    (alone,) = tell([read(9, 5, ahead=None)])
    assert alone.day_frames is None
    assert "nothing else tells which of the two is right" in alone.says
    assert [each.name for each in tell([read(9, 0), read(9, 0, name="box")])] == ["box", "slate"]


def test_one_light_in_two_pictures_tells_their_timecodes_apart():
    seen = [Light("flash", "A", NINE, 0.02, 0.0, FRAME), Light("flash", "C", NINE + 2 * FRAME, 0.02, 2 * FRAME, FRAME)]
    (said,) = tell_lights(seen)
    assert "C's timecode is +2.00 f (± 1.00) ahead of A's" in said
    assert said.endswith("they agree")
    (wrong,) = tell_lights([seen[0], replace(seen[1], at_s=NINE + 9 * FRAME)])
    assert "they differ by 7.0 f" in wrong
    assert tell_lights([*seen, replace(seen[1], at_s=NINE + 60)]) == []  # twice on one camera tells no moment


def sighted(at_s, apart_s, se_s=1e-5, **more):
    return Sighting(**{"picture": "A", "sound": "S1", "at_s": at_s, "apart_s": apart_s, "se_s": se_s,
                       "by": Witness.SOUND, "used": True, "key": ""} | more)  # fmt: skip


def test_two_devices_fed_with_one_clock_are_told_from_two_that_run_apart():
    rng = np.random.default_rng(5)
    together = [sighted(NINE + 600 * n, 0.001 + 1e-5 * rng.standard_normal()) for n in range(6)]
    (one,) = partings(together, 25.0, tolerance_frames=0.25)
    assert "over 6 recordings in 50 min 0 s they part by" in one.says
    assert "they keep together" in one.says
    assert "ahead" not in one.says  # what cannot be told has no direction
    apart = [sighted(NINE + 600 * n, 20e-6 * 600 * n + 1e-5 * rng.standard_normal()) for n in range(6)]
    (two,) = partings(apart, 25.0, tolerance_frames=0.25)
    assert two.ppm == pytest.approx(20, abs=0.1)
    assert "they part by 1.500 ±" in two.says
    assert "f, A ahead (+20.0" in two.says
    assert "they do not keep together: 1.80 frames an hour" in two.says
    assert partings(apart[:1], 25.0, tolerance_frames=0.25) == []
    assert partings([replace(one_, used=False) for one_ in apart], 25.0, tolerance_frames=0.25) == []


def test_the_band_of_a_parting_holds_its_truth():
    rng, held = np.random.default_rng(11), 0
    for _ in range(400):
        ppm = rng.uniform(-20, 20)
        at = np.sort(rng.uniform(0, 7200, 8))
        noise = 2e-5 * rng.standard_normal(8)
        own = [sighted(NINE + t, ppm * 1e-6 * t + e, 2e-5) for t, e in zip(at, noise, strict=True)]
        (one,) = partings(own, 25.0, tolerance_frames=0.25)
        held += abs(one.parts_s - ppm * 1e-6 * one.span_s) <= 1.96 * one.se_s
    assert held >= 0.92 * 400
