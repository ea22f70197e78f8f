"""Maps: exact, invertible, composable; and the sign convention of the rate."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.conform.correction import Correction, errors, propose
from vesk.core.errors import TimeMapError
from vesk.core.sound.measurement import Line
from vesk.core.timemap import PiecewiseMap, TimeMap
from vesk.core.tolerance import Tolerance

seconds = st.fractions(-4000, 4000, max_denominator=10**6)
maps = st.builds(TimeMap, seconds, st.fractions(Fraction(99, 100), Fraction(101, 100), max_denominator=10**7))


@given(maps, seconds)
def test_a_map_and_its_inverse_are_nothing(one, at):
    assert one.inverse()(one(at)) == at


@given(maps, maps, seconds)
def test_composition_is_one_after_the_other(one, two, at):
    assert two.after(one)(at) == two(one(at))


def test_a_fast_recorder_makes_more_samples():
    # 48 kHz and 100 ppm fast: 48 004.8 samples a picture second.
    laid = TimeMap.with_ppm(Fraction(0), Fraction(100))
    assert laid(Fraction(480048, 480000)) == 1
    assert laid.ppm == 100


def test_a_rate_turns_about_its_anchor():
    laid = TimeMap.with_ppm(Fraction(5), Fraction(200), anchor=Fraction(60))
    assert laid(Fraction(60)) == 65


def test_no_map_runs_backwards():
    with pytest.raises(TimeMapError):
        TimeMap(Fraction(0), Fraction(0))


def line(offset: float, ppm: float, middle: float) -> Line:
    rate = ppm * 1e-6
    return Line(middle, offset - rate * (middle - offset), ppm, 1e-6, 1e-3)


def test_a_fast_recorder_gets_later_as_in_the_design():
    # 66.2 ppm over 18 min 20 s is 72.8 ms, 1.82 frames at 25 fps, late above the line.
    heard = line(0.0, 66.2, 550.0)
    found = errors(TimeMap(Fraction(0)), heard, (0.0, 550.0, 1100.0))
    assert found.head_s == pytest.approx(0, abs=1e-6)
    assert found.tail_s * 25 == pytest.approx(1.82, abs=0.005)


@given(
    st.floats(-5, 5),
    st.floats(-400, 400),
    st.floats(20, 3000),
    st.floats(-0.2, 0.2),
    st.sampled_from([Fraction(24000, 1001), Fraction(25), Fraction(50)]),
)
def test_the_proposal_leaves_head_middle_and_tail_in_place(offset, ppm, span, late, fps):
    heard = line(offset, ppm, span / 2)
    points = (max(0.0, offset), span / 2, span)
    by_timecode = Fraction(round(offset * 25), 25)
    tolerance = Tolerance()
    taken = propose(by_timecode, heard, points, fps=fps, tolerance=tolerance, late_s=late)
    left = errors(taken.on(by_timecode), heard, points, late_s=late)
    # Drift inside the tolerance is left alone: then at most half the tolerance remains.
    allowed = 2e-6 if taken.ppm else float(tolerance.seconds(fps)) / 2 + 2e-6
    assert max(abs(error) for error in left.all) <= allowed


def test_a_slip_moves_the_sound_later_by_its_size():
    heard = line(1.0, 0.0, 30.0)
    before = errors(Correction().on(Fraction(1)), heard, (1.0, 30.0, 60.0))
    after = errors(Correction(slip=Fraction(1, 25)).on(Fraction(1)), heard, (1.0, 30.0, 60.0))
    assert [a - b for a, b in zip(after.all, before.all, strict=True)] == pytest.approx([0.04] * 3)


jumped = st.builds(
    lambda first, gaps: PiecewiseMap(
        first, tuple((sum((g for g, _ in gaps[: n + 1]), Fraction(0)), step) for n, (_, step) in enumerate(gaps))
    ),
    st.builds(TimeMap, st.fractions(-100, 100, max_denominator=997), st.fractions("0.9", "1.1", max_denominator=997)),
    st.lists(
        st.tuples(st.fractions(1, 30, max_denominator=97), st.fractions("-0.4", "0.9", max_denominator=97)), max_size=4
    ),
)


@given(jumped, st.fractions(-10, 150, max_denominator=101))
def test_a_map_with_jumps_and_its_inverse_agree(chart, source):
    target = chart(source)
    back = chart.source_of(target)
    assert back is not None
    # Where samples were doubled two source times sound at once: the later one is given, and leads back.
    assert chart(back) == target
    assert back >= source


def test_a_loss_leaves_a_hole_and_a_doubling_goes_back():
    lost = PiecewiseMap(TimeMap(Fraction(0)), ((Fraction(10), Fraction(1, 2)),))
    assert lost(Fraction(10)) == Fraction(21, 2)
    assert lost.source_of(Fraction(41, 4)) is None
    doubled = PiecewiseMap(TimeMap(Fraction(0)), ((Fraction(10), Fraction(-1, 2)),))
    assert doubled(Fraction(10)) == Fraction(19, 2)
    assert doubled.source_of(Fraction(39, 4)) == Fraction(41, 4)
    with pytest.raises(TimeMapError):
        PiecewiseMap(TimeMap(Fraction(0)), ((Fraction(2), Fraction(1)), (Fraction(1), Fraction(1))))
