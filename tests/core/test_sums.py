"""Corrections of several scopes add up in one order; whose rate gives way; what is let pass."""

from fractions import Fraction

import pytest

from vesk.core.conform.correction import Correction
from vesk.core.conform.device import DeviceCorrection, summed
from vesk.core.conform.retiming import meaning, timed
from vesk.core.errors import NumberError
from vesk.core.kinds import Kind
from vesk.core.tolerance import read_tolerance, what_it_means

DAY, PAL = Fraction(86_400), Fraction(25)


def test_a_device_its_stretch_and_its_run_add_up_and_the_rate_turns_about_the_head():
    nine = Fraction(9 * 3600)
    device = DeviceCorrection(Fraction(1, 25), drift=Fraction(10), ppm=Fraction(10), anchor=nine)
    stretch = DeviceCorrection(Fraction(-1, 100))
    run = DeviceCorrection(Fraction(1, 1000), ppm=Fraction(-4))
    offset = Fraction(-3)
    parts = [one.on_take(offset, nine + 1000, DAY) for one in (device, stretch, run)]
    both = summed(offset, parts)
    assert both.slip == Fraction(1, 25) + Fraction(10 * 1000, 10**6) - Fraction(1, 100) + Fraction(1, 1000)
    assert both.ppm == 6
    head = max(Fraction(0), offset) - offset  # sound seconds at the head, before any correction
    assert both.on(offset)(head - both.slip) == 0  # the head lies where the slip alone puts it
    assert summed(offset, []) == Correction(anchor=head)
    late = summed(Fraction(5), [run.on_take(Fraction(5), nine, DAY)])
    assert late.on(Fraction(5))(Fraction(0)) == pytest.approx(Fraction(5) + Fraction(1, 1000), abs=1e-8)


@pytest.mark.parametrize("ppm", [Fraction(40), Fraction(-662, 10), Fraction(999)])
def test_where_the_sound_is_the_truth_it_is_untouched_and_frames_still_meet_their_sound(ppm):
    offset = Fraction(-2)
    kept = Correction(Fraction(1, 50), ppm, Fraction(2), ((Fraction(100), Fraction(3, 100)),), Kind.PICTURE)
    laid, plays = kept.on(offset), timed(kept, offset, PAL)
    assert plays.laid.rate == 1
    assert plays.fps == PAL / plays.stretch
    for frame in (0, 1000, 4711):
        heard = laid.source_of(Fraction(frame) / PAL)  # the sound that belongs to a frame
        assert plays.laid.source_of(Fraction(frame) / plays.fps) == heard
    other = Correction(kept.slip, ppm, kept.anchor, kept.jumps)
    assert timed(other, offset, PAL).stretch == 1
    assert timed(other, offset, PAL).laid == other.on(offset)
    assert "handed over as recorded" in meaning(kept, PAL)
    assert f"{plays.fps.numerator}/{plays.fps.denominator}" in meaning(kept, PAL)
    assert "pitch" in meaning(other, PAL)
    assert meaning(Correction(), PAL) == ""


def test_a_sound_in_an_earlier_device_s_rate_is_retimed_as_the_last_part_that_has_a_rate_says():
    by_picture = Correction(ppm=Fraction(5), retimed=Kind.PICTURE)
    assert summed(Fraction(0), [by_picture, Correction(Fraction(1))]).retimed == Kind.PICTURE
    assert summed(Fraction(0), [by_picture, Correction(ppm=Fraction(1))]).retimed == Kind.SOUND


def test_a_tolerance_is_typed_in_frames_or_milliseconds_and_says_what_it_means():
    assert read_tolerance("0.25", PAL).frames == read_tolerance(" 0,25 f ", PAL).frames == Fraction(1, 4)
    assert read_tolerance("1 ms", Fraction(24000, 1001)).seconds(Fraction(24000, 1001)) == Fraction(1, 1000)
    assert "lips" in what_it_means(read_tolerance("0.25", PAL), PAL)
    assert "without an echo" in what_it_means(read_tolerance("1ms", PAL), PAL)
    assert "can be seen" in what_it_means(read_tolerance("2", PAL), PAL)
    for nonsense in ("", "0", "-1", "11", "1 s", "1e3", "0.000001 ms"):
        with pytest.raises(NumberError):
            read_tolerance(nonsense, PAL)
