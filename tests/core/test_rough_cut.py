"""A rough cut covers its stretch without gap or overlap whatever is done to it, and goes out as what was seen."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.errors import RefusedError
from vesk.core.handover.timeline import Media
from vesk.core.kinds import PICTURE, SOUND
from vesk.core.moment.rough_cut import Cut, Edge, Lying, RoughCut, Takes, as_timeline
from vesk.core.timemap import TimeMap

PAL = Fraction(25)


def spans(cut):
    return [(one.camera, one.first, one.last) for one in cut.cuts]


def test_a_camera_taken_stays_until_the_next_one_was_taken():
    cut = RoughCut().taken("A", 100, 500).taken("B", 200, 500).taken("A", 150, 500).taken("B", 300, 500)
    assert spans(cut) == [("A", 100, 200), ("B", 200, 500)]
    cut = cut.taken("C", 120, 500)
    assert spans(cut) == [("A", 100, 120), ("C", 120, 200), ("B", 200, 500)]
    assert spans(cut.taken("D", 120, 500))[1] == ("D", 120, 200)  # taken anew where it begins
    assert spans(cut.taken("E", 40, 500))[0] == ("E", 40, 100)  # before all that was cut
    with pytest.raises(RefusedError, match="Nothing is left"):
        cut.taken("A", 500, 500)


def test_trimming_moves_what_two_cuts_share_and_never_through_one():
    cut = RoughCut((Cut("A", 0, 10), Cut("B", 10, 20), Cut("A", 25, 30)))
    assert spans(cut.trimmed(0, Edge.LAST, 3)) == [("A", 0, 13), ("B", 13, 20), ("A", 25, 30)]
    assert spans(cut.trimmed(2, Edge.FIRST, -3))[1:] == [("B", 10, 20), ("A", 22, 30)]
    assert spans(cut.trimmed(2, Edge.FIRST, -7))[1:] == [("B", 10, 18), ("A", 18, 30)]
    for index, edge, frames in ((0, Edge.LAST, 10), (1, Edge.FIRST, -10), (2, Edge.FIRST, 5), (3, Edge.LAST, 1)):
        with pytest.raises(RefusedError):
            cut.trimmed(index, edge, frames)


ACTS = st.lists(
    st.one_of(
        st.tuples(st.just("take"), st.sampled_from("ABC"), st.integers(0, 99)),
        st.tuples(st.just("trim"), st.integers(0, 5), st.integers(-9, 9)),
    ),
    max_size=12,
)


@given(ACTS)
def test_whatever_is_cut_lies_in_order_and_within_the_moment(acts):
    cut = RoughCut().taken("A", 0, 100)
    for what, one, two in acts:
        try:
            cut = cut.taken(one, two, 100) if what == "take" else cut.trimmed(one, Edge.LAST, two)
        except RefusedError:
            continue
    assert all(one.first < one.last for one in cut.cuts)
    assert all(a.last <= b.first for a, b in zip(cut.cuts, cut.cuts[1:], strict=False))


def media(key, kind, rate, seconds, start):
    return Media(key, f"{key}.mov", f"{key}.mov", key.rstrip("12"), kind, Fraction(start), Fraction(seconds),
                 Fraction(rate), PAL, reel=key)  # fmt: skip


def test_a_rough_cut_goes_out_as_the_frames_that_were_seen_and_the_sound_that_stayed():
    lying = [
        Lying(media("A", PICTURE, 25, 100, 36000), TimeMap(Fraction(36000))),
        # B's label is an hour off and its frames lie 0.4 of one late; it runs 20 ppm fast, and stops for a while.
        Lying(media("B1", PICTURE, 25, 30, 39600), TimeMap.with_ppm(Fraction(36010) + Fraction(2, 125), Fraction(20))),
        Lying(media("B2", PICTURE, 25, 30, 39640), TimeMap(Fraction(36050) - Fraction(1, 100))),
        Lying(media("S", SOUND, 48000, 100, 36000), TimeMap(Fraction(36000) - Fraction(1, 48000))),
    ]
    first = 36000 * 25
    cut = RoughCut((Cut("A", first + 100, first + 300), Cut("B", first + 300, first + 1300),
                    Cut("A", first + 1300, first + 1400, Takes.SOUND)), "S")  # fmt: skip
    made = as_timeline("cut", cut, lying, fps=PAL, drop=False)
    pictures, sound = made.tracks
    shown = [(c.media.key, c.at * 25, c.first * 25, c.count) for c in pictures.clips]
    assert shown[0] == ("A", 0, 100, 200)
    # Frame 300 of the day is 2 s into B's file but for 0.4 of a frame: its frame 49 is shown then.
    assert shown[1] == ("B1", 200, 49, 700)
    assert shown[2][:3] == ("B2", 1150, 0)  # its first whole frame of the day
    assert shown[2][3] == 50 + 100  # B goes on being shown where only sound is cut
    assert all(clip.speed == 1 for clip in pictures.clips)
    assert [(c.media.key, c.at * 25) for c in sound.clips] == [("S", 0), ("A", 1200)]
    assert sound.clips[0].first == Fraction(4 * 48000 + 1, 48000)
    assert made.start == Fraction(first + 100, 25)
    with pytest.raises(RefusedError, match="Nothing is cut"):
        as_timeline("cut", RoughCut(), lying, fps=PAL, drop=False)
