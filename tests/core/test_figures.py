"""Numbers from outside: read exactly, refused at once where they would stop the reader."""

import time
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.errors import NumberError, ReportError, TimecodeError
from vesk.core.figures import read_number, read_whole
from vesk.core.intake.reports import LONGEST_CELL, MOST_COLUMNS, MOST_LINES, read_table
from vesk.core.timecode import FrameRate

HOSTILE = (
    "1e200000000", "9" * 5000, "nan", "inf", "-inf", "1/0", "0x10", "٣", "1_000", "1e5", "", "-", ".", "1.2.3", "--1",
    "1/2/3", "1,2,3", "1" * 16,
)  # fmt: skip


@pytest.mark.parametrize("text", HOSTILE)
def test_what_is_no_number_is_refused_at_once_and_shortly(text):
    begun = time.process_time()
    for read in (read_number, read_whole):
        with pytest.raises(NumberError) as caught:
            read(text)
        assert len(str(caught.value)) < 120
    with pytest.raises(TimecodeError) as caught:
        FrameRate.parse(text)
    assert len(str(caught.value)) < 160
    assert time.process_time() - begun < 1  # the first of these took 37 s


@given(st.fractions(min_value=-(10**9), max_value=10**9, max_denominator=10**6))
def test_a_ratio_is_read_back_exactly(value):
    assert read_number(f"{value.numerator}/{value.denominator}") == value


@given(st.integers(-(10**9), 10**9), st.integers(0, 9))
def test_a_decimal_is_exact_and_may_have_a_comma_or_a_real_minus(value, places):
    text = f"{Decimal(value).scaleb(-places):f}"
    exact = Fraction(value, 10**places)
    assert read_number(text.replace(".", ",").replace("-", "\N{MINUS SIGN}")) == exact


def test_bounds_are_kept_and_named():
    assert read_whole("2147483647") == 2**31 - 1
    for text, words in (("2147483648", "too large"), ("-1", "too small")):
        with pytest.raises(NumberError, match=words):
            read_whole(text)
    assert read_number("-2", least=-2, most=2) == -2
    with pytest.raises(NumberError, match="too large: 2 at most"):
        read_number("2.001", least=-2, most=2)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("file,scene," + ",".join("x" * 20_000) + "\n1,2\n", "columns; a report has"),
        ("file,scene\n" + "y" * (LONGEST_CELL + 1) + ",1\n", "cell of more than"),
        ("file,scene\n" + "a,1\n" * (MOST_LINES + 1), "lines; a day's report has"),
        ("file,scene\n" * 30_000, "lines; a day's report has"),
        ("file,scene\n\0,1\n", "zero bytes"),
        ("x" * (5 << 20), "larger than any report"),
    ],
)
def test_every_limit_of_a_table_has_its_sentence(text, words):
    begun = time.process_time()
    with pytest.raises(ReportError, match=words):
        read_table(text)
    assert time.process_time() - begun < 2  # 20 000 columns took 48 s


def test_a_table_at_its_limits_is_read():
    wide = ",".join(["file", "scene", *(f"c{n}" for n in range(MOST_COLUMNS - 2))])
    text = wide + "\n" + "a,1\n" * (MOST_LINES - 1) + f'b,"{"n, " * (LONGEST_CELL // 3 - 1)}"\n'
    table = read_table(text)
    assert (len(table.columns), len(table.lines)) == (MOST_COLUMNS, MOST_LINES)
