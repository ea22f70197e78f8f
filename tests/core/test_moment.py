"""Everything of a moment lies on one axis as its corrections lay it, and by its clock only where nothing joins it."""

from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from vesk.core.handover.timeline import Joined
from vesk.core.moment.moment import Running, apart, lay_moment
from vesk.core.timemap import PiecewiseMap, TimeMap, composed, inverted

RATES = st.integers(-300, 300).map(lambda ppm: 1 + Fraction(ppm, 1_000_000))
OFFSETS = st.integers(-10_000, 10_000).map(lambda ms: Fraction(ms, 1000))
STRAIGHT = st.builds(TimeMap, OFFSETS, RATES)
JUMPS = st.lists(st.tuples(st.integers(1, 50), st.integers(1, 40)), max_size=3, unique_by=lambda jump: jump[0])
LOSING = st.builds(
    PiecewiseMap, STRAIGHT, JUMPS.map(lambda some: tuple(sorted((Fraction(at), Fraction(ms, 1000)) for at, ms in some)))
)
MAPS = st.one_of(STRAIGHT, LOSING)


@given(MAPS, MAPS, st.integers(-20, 80))
def test_one_map_after_another_is_what_both_do(outer, first, at):
    assert composed(outer, first)(Fraction(at) + Fraction(1, 7)) == outer(first(Fraction(at) + Fraction(1, 7)))


@given(MAPS, st.integers(-20, 80))
def test_a_map_and_its_way_back_lead_to_where_one_was(laid, at):
    assert inverted(laid)(laid(Fraction(at) + Fraction(1, 7))) == Fraction(at) + Fraction(1, 7)


def running(key, tag, at, seconds, **more):
    return Running(key, tag, key[0] != "s", Fraction(seconds), None if at is None else Fraction(at), **more)


def test_cameras_lie_as_the_sound_of_both_lays_them_not_as_their_labels_say():
    every = [running("a1", "A", 100, 60), running("b1", "B", 130, 60), running("s1", "S1", 90, 120)]
    a, b = TimeMap.with_ppm(Fraction(-10), Fraction(20)), TimeMap(Fraction(-25))  # B's labels are 15 s late
    joined = [Joined("a1", "s1", a, checked=False), Joined("b1", "s1", b, checked=False)]
    laid = {one.own.key: one for one in lay_moment("a1", every, joined)}
    assert laid["s1"].to_axis == a
    for moment in (Fraction(30), Fraction(50)):
        assert laid["b1"].to_axis(b(moment)) == a(moment)
    assert (laid["b1"].through, laid["s1"].through) == ("s1", "a1")
    assert lay_moment("a1", every, [])[1].to_axis(Fraction(0)) == 30  # by clocks alone


def test_what_only_a_third_recording_joins_to_the_moment_does_not_come_in():
    every = [running("a1", "A", 0, 10), running("s1", "S1", 0, 4000), running("a2", "A", 3000, 10),
             running("d1", "D", 2, 40, pace=Fraction(1, 4)), running("e1", "E", None, 5)]  # fmt: skip
    joined = [Joined(key, "s1", TimeMap(-Fraction(at)), checked=False) for key, at in (("a1", 0), ("a2", 3000))]
    laid = lay_moment("a1", every, joined)
    assert [one.own.key for one in laid] == ["a1", "d1", "s1"]
    assert laid[1].ends == 12  # 40 s of film of ten real ones


def test_what_two_recorders_say_otherwise_of_a_camera_is_shown_as_what_it_is_off():
    every = [running(key, key, 0, 60) for key in ("a", "b", "s1", "s2")]
    same = TimeMap(Fraction(0))
    joined = [Joined("a", "s1", same, checked=True), Joined("b", "s1", same, checked=True),
              Joined("a", "s2", same, checked=False),
              Joined("b", "s2", TimeMap(Fraction(1, 25)), checked=False)]  # fmt: skip
    laid = {one.own.key: one for one in lay_moment("a", every, joined, "s1")}
    assert apart(laid["b"], laid["s2"], TimeMap(Fraction(1, 25)), Fraction(5)) == Fraction(-1, 25)
    assert apart(laid["a"], laid["s1"], TimeMap(Fraction(0)), Fraction(5)) == 0
