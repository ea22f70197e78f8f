"""Timecode labels against the counting rule, and the laws every value obeys."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.errors import TimecodeError
from vesk.core.timecode import FrameRate, Timecode, nearest_rate, relabel, time_reference, wrap_day

FILM = FrameRate(Fraction(24))
FILM_VIDEO = FrameRate(Fraction(24000, 1001))
PAL = FrameRate(Fraction(25))
NTSC = FrameRate(Fraction(30000, 1001))
NTSC_DROP = FrameRate(Fraction(30000, 1001), drop=True)
NTSC_DROP_60 = FrameRate(Fraction(60000, 1001), drop=True)
RATES = [FILM, FILM_VIDEO, PAL, NTSC, NTSC_DROP, NTSC_DROP_60, FrameRate(Fraction(120))]

timecodes = st.sampled_from(RATES).flatmap(
    lambda rate: st.builds(Timecode, st.integers(0, rate.frames_per_day - 1), st.just(rate))
)


@pytest.mark.parametrize(
    ("rate", "frame", "label"),
    [
        (PAL, 25 * 3600, "01:00:00:00"),
        (NTSC, 30 * 3600, "01:00:00:00"),
        # Drop-frame skips ;00 and ;01 each minute, except every tenth.
        (NTSC_DROP, 1799, "00:00:59;29"),
        (NTSC_DROP, 1800, "00:01:00;02"),
        (NTSC_DROP, 17982, "00:10:00;00"),
        (NTSC_DROP, 107892, "01:00:00;00"),
        (NTSC_DROP, 2589407, "23:59:59;29"),
        (NTSC_DROP_60, 3600, "00:01:00;04"),
    ],
)
def test_frame_and_label_agree(rate, frame, label):
    assert str(Timecode(frame, rate)) == label
    assert Timecode.parse(label, rate).frame == frame


def test_drop_frame_against_counting_by_the_rule():
    """The standard's rule, counted label by label over 21 minutes: an oracle that shares no formula."""
    frame = 0
    for minute in range(21):
        for second in range(60):
            for number in range(30):
                if minute % 10 and second == 0 and number < 2:
                    continue
                assert str(Timecode(frame, NTSC_DROP)) == f"00:{minute:02}:{second:02};{number:02}"
                frame += 1


@given(timecodes)
def test_every_label_reads_back_as_its_frame(timecode):
    assert Timecode.parse(str(timecode), timecode.rate) == timecode


def test_drop_frame_hour_is_exact_real_time():
    hour = Timecode.parse("01:00:00;00", NTSC_DROP)
    assert hour.seconds == Fraction(17999982, 5000)  # 3.6 ms short of 3600 s


@pytest.mark.parametrize(
    ("rate", "label", "reason"),
    [
        (NTSC_DROP, "00:01:00;01", "skips"),
        (NTSC_DROP, "00:01:00:02", "separator"),
        (PAL, "00:00:00:25", "out of range"),
        (PAL, "1:2:3:4", "HH:MM:SS:FF"),
        (PAL, "\u0660\u0661:00:00:00", "HH:MM:SS:FF"),
    ],
)
def test_labels_that_do_not_exist_are_refused(rate, label, reason):
    with pytest.raises(TimecodeError, match=reason):
        Timecode.parse(label, rate)


@pytest.mark.parametrize("frame", [-1, 2589408, 1.5])
def test_only_whole_frames_of_one_day_exist(frame):
    with pytest.raises(TimecodeError):
        Timecode(frame, NTSC_DROP)


def test_time_reference_counts_samples_of_label_time():
    # By hand: 10 h at 24000/1001 last 36036 s; drop-frame 10 h are 1 078 920 frames of 1001/30000 s.
    assert time_reference(Timecode.parse("10:00:00:00", FILM_VIDEO), 48000) == 1_729_728_000
    assert time_reference(Timecode.parse("10:00:00;00", NTSC_DROP), 48000) == Fraction(1_078_920 * 1001 * 48000, 30000)
    assert round(time_reference(Timecode.parse("10:00:00;00", NTSC_DROP), 48000)) == 1_727_998_272
    assert time_reference(Timecode.parse("10:00:00:00", PAL), 48000) == 1_728_000_000


@given(timecodes, st.fractions(0, 1), st.sampled_from(RATES))
def test_relabelling_there_and_back_changes_nothing_but_skipped_labels(timecode, part, onto):
    if timecode.rate.drop != onto.drop:
        return  # a label one of the two skips cannot come back
    seconds = timecode.seconds + part / timecode.rate.fps
    there = relabel(seconds, timecode.rate, onto)
    back = relabel(there, onto, timecode.rate)
    assert abs(back - seconds) <= (0 if not onto.drop else 1 / onto.fps)


def test_one_label_on_two_clocks():
    # Machines jammed together show the same label whatever rate they count at.
    drop, non_drop = Timecode.parse("10:00:00;00", NTSC_DROP), Timecode.parse("10:00:00:00", NTSC)
    assert relabel(drop.seconds, NTSC_DROP, NTSC) == non_drop.seconds
    assert non_drop.seconds - drop.seconds == Fraction(36036) - Fraction(1_078_920 * 1001, 30000)  # 36.036 s in 10 h


def test_midnight_wraps_to_the_short_way():
    late, early = Timecode.parse("23:59:58:00", PAL), Timecode.parse("00:00:03:00", PAL)
    assert wrap_day(early.seconds - late.seconds, PAL.day) == 5
    assert wrap_day(late.seconds - early.seconds, PAL.day) == -5
    assert (late + 100).frame == 50


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("25", PAL), ("23.976", FILM_VIDEO), ("23.98", FILM_VIDEO), ("24000/1001", FILM_VIDEO), ("24", FILM),
        ("29.97 DF", NTSC_DROP), ("29.97df", NTSC_DROP), ("29.97 NDF", NTSC), ("29.97", NTSC),
    ],
)  # fmt: skip
def test_rates_are_read_as_people_write_them(text, rate):
    assert FrameRate.parse(text) == rate


@pytest.mark.parametrize("text", ["", "17", "25 DF", "fast", "1/0", "-25"])
def test_rates_that_are_none_are_refused(text):
    with pytest.raises(TimecodeError):
        FrameRate.parse(text)
    assert nearest_rate(Fraction(17)) is None
