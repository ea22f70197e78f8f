"""What clocks and claps say: choices, stretches of a day, the night after, a camera's internal delay."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.clocks.choice import Clocks, Period, choose_clock
from vesk.core.clocks.sound_delay import ClapPair, sound_delay
from vesk.core.kinds import HEADER, LTC, NONE
from vesk.core.pairing.by_claps import error_by_claps
from vesk.core.timecode import FrameRate, unwrapped

PAL = FrameRate(Fraction(25))
DAY = Fraction(86_400)
HOUR = Fraction(3600)
FRAME = Fraction(1, 25)


def clocks(header=None, ltc=None, lasts=0, stem=""):
    return Clocks(header, PAL, ltc, None if ltc is None else PAL, FRAME, Fraction(lasts), stem=stem)


def takes(headers, codes=(None,) * 5, *, names="clip{:04}", step=1):
    """Return takes of twenty seconds whose names count on, by one."""
    return [clocks(*own, 20, names.format(step * n)) for n, own in enumerate(zip(headers, codes, strict=False))]


SONG = [HOUR + Fraction(n * n, 7) for n in range(5)]  # where takes of a song begin by its own timecode
TIMES = [(9 + n) * HOUR for n in range(5)]


@pytest.mark.parametrize(
    ("recordings", "clock", "says"),
    [
        ([clocks(9 * HOUR), clocks(10 * HOUR)], HEADER, "no LTC"),
        ([clocks(Fraction(0)), clocks(Fraction(0))], NONE, "counter"),
        ([clocks(9 * HOUR)] * 3, NONE, "same label"),
        ([clocks(9 * HOUR), clocks(), clocks(), clocks()], HEADER, "of 1 of 4 recordings"),  # its only timecode
        ([clocks(9 * HOUR), clocks(9 * HOUR), clocks()], HEADER, "of 2 of 3 recordings"),
        ([clocks()], NONE, "no recording carries"),
        ([clocks(9 * HOUR, 9 * HOUR + FRAME), clocks(10 * HOUR)], LTC, "agree to a frame"),
        ([clocks(9 * HOUR, 10 * HOUR), clocks(11 * HOUR, 12 * HOUR)], LTC, "1 h 0 min behind"),
        ([clocks(9 * HOUR, 9 * HOUR), clocks(10 * HOUR), clocks(11 * HOUR)], HEADER, "no LTC"),
        ([clocks(DAY - 1, Fraction(1))], LTC, "2.0 s behind"),
        (takes(SONG), NONE, "5 recordings run at once"),
        (takes([None] * 5, SONG), NONE, "on a sound channel"),
        (takes(TIMES, SONG), HEADER, "5 run at once by that"),
        (takes(SONG, TIMES), LTC, "timecode on a sound channel"),
        # Cameras in one folder: five of one kind that ran once, four that ran five times, all under one counter.
        (takes(SONG, step=17), HEADER, "no LTC"),
        (takes([at + n for at in TIMES for n in range(4)], [None] * 20), HEADER, "no LTC"),
        # The parts of two recordings, which bear the label of their first.
        (takes([at for at in TIMES[:2] for _ in range(6)], [None] * 12), HEADER, "no LTC"),
    ],
)
def test_the_clock_is_chosen_from_all_of_a_source(recordings, clock, says):
    choice = choose_clock(recordings, PAL)
    assert choice.clock == clock
    assert says in choice.reason


@pytest.mark.parametrize(
    ("since", "before", "inside", "outside"),
    [(9, 12, [9, 11], [12, 8, 23]), (22, 4, [22, 23, 0, 3], [4, 12, 21])],
)
def test_a_stretch_holds_what_starts_in_it(since, before, inside, outside):
    period = Period(since * HOUR, before * HOUR, NONE)
    assert all(period.holds(hour * HOUR) for hour in inside)
    assert not any(period.holds(hour * HOUR) for hour in outside)
    assert not period.holds(None)


@given(
    st.lists(st.integers(0, 10 * 3600), min_size=1, max_size=30, unique=True),
    st.integers(0, 86_399),
)
def test_a_day_of_ten_hours_keeps_its_order_whenever_it_begins(moments, begins):
    """Ten hours of shooting at most, begun at any time of day: the order on the line is that in which it was shot."""
    labels = [Fraction((begins + moment) % 86_400) for moment in moments]
    line = unwrapped(labels, DAY)
    shot = [label for _, label in sorted(zip(moments, labels, strict=True))]
    laid = [line(label) for label in shot]
    assert laid == sorted(laid)
    assert laid[-1] - laid[0] == max(moments) - min(moments)


def test_a_day_inside_its_midnights_stays_where_it_is():
    line = unwrapped([9 * HOUR, 14 * HOUR], DAY)
    assert line(9 * HOUR) == 9 * HOUR
    assert line(14 * HOUR) == 14 * HOUR
    assert unwrapped([], DAY)(HOUR) == HOUR


@given(st.floats(-0.2, 0.2), st.lists(st.floats(0, 0.0399), min_size=1, max_size=12))
def test_the_true_delay_lies_in_what_every_clap_allows(delay, phases):
    """Contact falls anywhere in a frame: the interval that is left always holds the truth, and narrows."""
    claps = []
    for number, phase in enumerate(phases):
        contact = number + phase  # seconds; the frames begin on multiples of 1/25
        low = int(contact * 25) / 25
        claps.append(ClapPair(contact + delay, low, low + 0.04))
    found = sound_delay(claps)
    assert found.agreeing == found.claps == len(claps)
    assert found.low_s - 1e-9 <= delay <= found.high_s + 1e-9
    assert found.high_s - found.low_s <= 0.04 + 1e-9


def test_a_clap_that_fits_no_other_is_left_out():
    good = [ClapPair(n + 0.02, n - 0.02 + 0.01 * n, n + 0.02 + 0.01 * n) for n in (0, 1)]
    found = sound_delay([*good, ClapPair(9.5, 9.0, 9.04)])
    assert (found.agreeing, found.claps) == (2, 3)
    assert sound_delay([]) is None


def test_which_clap_is_meant_is_told_by_sound_or_by_being_alone():
    seen = [(1.96, 2.00)]
    assert error_by_claps(seen, [2.03, 2.5], error_s=None) is None  # two could be meant
    found = error_by_claps(seen, [2.03, 2.5], error_s=0.05)
    assert (round(found.low_s, 2), round(found.high_s, 2)) == (0.03, 0.07)
    assert error_by_claps(seen, [2.5], error_s=0.05) is None
