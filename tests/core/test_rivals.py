"""One device makes one recording at a time: claims that cannot both be."""

import pytest

from vesk.core.pairing.rivals import Claim, rivalries


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
