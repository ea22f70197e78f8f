"""File names: what patterns catch, and which cannot be."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.errors import NamingError
from vesk.core.intake.naming import compiled, missing_numbers, read_name


@pytest.mark.parametrize(
    ("stem", "caught"),
    [
        ("A006_003", {"roll": "A006", "clip": "003"}),
        ("A001_C001", {"roll": "A001", "clip": "001"}),
        ("A014_C004_0417QK", {"roll": "A014", "clip": "004"}),
        ("A014C004_270417", {"roll": "A014", "clip": "004"}),
        ("31A_02", {"scene": "31A", "take": "02"}),
        ("34_01b", {"scene": "34", "take": "01", "part": "b"}),
        ("31A_02_boom", {"scene": "31A", "take": "02", "track": "boom"}),
        ("33_01-02", {"scene": "33", "take": "01"}),
        ("WT01_01", {"scene": "WT01", "take": "01"}),
        ("clip0017", {}),
        ("قارب_٠١", {}),
    ],
)
def test_what_the_usual_patterns_catch(stem, caught):
    assert read_name(stem) == caught


def test_a_pattern_of_ones_own():
    assert read_name("day6 sc31A tk3", ["{any} sc{scene} tk{take}"]) == {"scene": "31A", "take": "3"}
    assert read_name("a+b (1)", ["a+b ({take})"]) == {"take": "1"}  # what is outside braces is itself


@pytest.mark.parametrize(
    ("pattern", "words"),
    [
        ("{scene}_{scene}", "twice"),
        ("{reel}", "nothing that a file name holds"),
        ("take", "catches nothing"),
        ("{any}", "catches"),
    ],
)
def test_patterns_that_cannot_be_are_explained(pattern, words):
    with pytest.raises(NamingError, match=words):
        compiled(pattern)


@given(st.sets(st.integers(1, 400), min_size=1, max_size=60))
def test_missing_numbers_fill_every_short_gap_and_nothing_else(numbers):
    missing = missing_numbers(sorted(numbers), most=50)
    assert not set(missing) & numbers
    whole = sorted(numbers | set(missing))
    assert all(b - a == 1 or b - a > 50 for a, b in pairwise(whole))
