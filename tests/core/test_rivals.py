"""One device makes one recording at a time: claims that cannot both be."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.pairing.astray import Outcome, find_astray
from vesk.core.pairing.rivals import Claim, Displaced, Rivalry, displaced, parted, rivalries, to_compare
from vesk.core.sound.measurement import refused


def claim(key, picture="P1", sound="T1", *, at=(0.0, 60.0), offset=0.0, strength=80.0, sources=("A", "S1")):
    return Claim(key, picture, sound, *sources, *at, offset, strength)


def test_two_takes_of_one_recorder_over_the_same_moments_are_rivals():
    found = rivalries([claim("a", sound="T1"), claim("b", sound="T2", strength=70.0)])
    assert {key: (one.other, one.better) for key, one in found.items()} == {"a": ("b", False), "b": ("a", False)}


def test_a_clearly_weaker_one_belongs_elsewhere_and_the_better_stands():
    found = rivalries([claim("a", sound="T1"), claim("b", sound="T2", strength=20.0)])
    assert list(found) == ["b"]
    assert found["b"].better


@pytest.mark.parametrize(
    "second",
    [
        claim("b", sound="T2", at=(61.0, 120.0)),  # the next file of the same recorder
        claim("b", sound="T2", sources=("A", "S2")),  # another recorder
        claim("b", picture="P2", sources=("B", "S1")),  # another camera on the same sound
        claim("b", picture="P2", offset=-100.0),  # the same camera later on the same sound
    ],
)
def test_what_can_be_at_once_is_no_rival(second):
    assert rivalries([claim("a"), second]) == {}


def test_one_camera_cannot_make_two_files_of_one_moment():
    assert set(rivalries([claim("a"), claim("b", picture="P2", offset=2.0)])) == {"a", "b"}


def test_files_whose_labels_overlap_just_so_were_made_by_two_devices():
    one, other = claim("a"), claim("b", picture="P2", offset=2.0)
    noon = Fraction(43_200)
    labelled = [replace(one, picture_start=noon + 2), replace(other, picture_start=noon)]
    assert rivalries(labelled) == {}
    assert to_compare(labelled) == []
    # A label that says something else tells nothing: their own sound is asked.
    wrong = [labelled[0], replace(other, picture_start=noon + 40)]
    assert len(rivalries(wrong)) == 2
    (asked,) = to_compare(wrong)
    line = {asked.one: 0.0, asked.other: asked.offset_s}
    assert line["P2"] - line["P1"] == pytest.approx(-2.0)  # a moment of the sound lies 2 s later on P2
    assert rivalries(wrong, {asked.pair}) == {}


def test_takes_of_one_playback_are_not_two_devices_because_two_or_all_seem_to_have_heard_the_same():
    """Where a folder holds two devices' files, many are in twos: not one pair of many, and not all with all."""
    both = [claim(f"{n}{of}", f"{of}{n}", f"T{n}", sources=("AB", "S1")) for n in range(9) for of in "AB"]
    twos = [frozenset((f"A{n}", f"B{n}")) for n in range(9)]
    assert rivalries(both, twos[:6]).keys() == {f"{n}{of}" for n in (6, 7, 8) for of in "AB"}
    assert len(rivalries(both, twos[:1])) == 18
    dense = twos + [frozenset((f"A{n}", f"B{m}")) for n in range(9) for m in range(9)]
    assert len(rivalries(both, dense)) == 18


NOON = Fraction(43_200)
FITS = replace(claim("a", sound="T2", offset=-1.0), sound_start=NOON + 600)
BY_LABEL = replace(claim("b", sound="T1", offset=-2.0, strength=0.0), sound_start=NOON)


def test_where_sound_lays_one_file_of_a_device_a_label_that_lays_another_is_wrong():
    (key, found), *more = displaced([BY_LABEL], [FITS], {}, {}).items()
    assert (key, found.other, found.settled, more) == ("b", "a", Displaced.ASTRAY, [])


@pytest.mark.parametrize(
    ("fits", "by_label"),
    [
        (replace(FITS, sound_start=NOON + 1), BY_LABEL),  # two recorders filed as one, the other too far away
        (replace(FITS, sound_start=None), BY_LABEL),  # a mix without timecode beside tracks that have it
        (replace(FITS, sound_source="S2"), BY_LABEL),
        (replace(FITS, head_s=0.0, tail_s=20.0), replace(BY_LABEL, head_s=21.0)),  # the next file of the same recorder
        (replace(FITS, picture="P2", sound="T1"), BY_LABEL),  # another picture has its sound: this one has none yet
    ],
)
def test_what_sound_refused_waits_for_somebody_where_both_can_be(fits, by_label):
    assert displaced([by_label], [fits], {}, {}) == {}


def test_a_picture_is_searched_for_among_the_devices_all_of_whose_files_by_label_were_refused():
    heard, silent = refused("nothing in common"), replace(refused("nothing to hear"), unheard=True)
    matched = replace(heard, decision="matched")
    assert find_astray(
        [
            Outcome("P1", "S1", heard), Outcome("P1", "S1", heard), Outcome("P1", "S2", matched),
            Outcome("P2", "S1", heard), Outcome("P2", "S1", matched),  # a brush with the next take
            Outcome("P3", "S1", silent), Outcome("P4", "S1", None),
            Outcome("P5", "S1", heard, by_person=True),
        ]
    ) == {"P1": {"S1"}}  # fmt: skip


def test_what_clocks_lay_apart_is_none_whether_sound_refused_it_or_left_it_open():
    refused_one = replace(BY_LABEL, key="r", picture="P1", sound="T1")
    open_ones = {"o": ("P1", "T2"), "near": ("P1", "T3"), "said": ("P1", "T4")}
    rivals = {"o": Rivalry("near", better=False), "said": Rivalry("o", better=True, settled=Displaced.ORDER)}
    found = parted([refused_one], open_ones, {("P1", "T1"), ("P1", "T2"), ("P1", "T4")}, rivals)
    assert {key: one.settled for key, one in found.items()} == {"r": Displaced.CLOCKS, "o": Displaced.OTHER_TIME}
