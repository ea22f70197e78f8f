"""Two recordings put together by hand: moments as people write them, the difference and its direction in words."""

from fractions import Fraction

import pytest

from vesk.core.errors import RefusedError, TimecodeError
from vesk.core.pairing.by_hand import ByHand, read_moment
from vesk.core.timecode import FrameRate

PAL = FrameRate(Fraction(25))
START = Fraction(33126)  # 09:12:06:00


def read(text, *, start=START, fps=PAL.fps):
    return read_moment(text, start=start, clock=PAL, fps=fps)


def test_a_moment_is_seconds_a_frame_or_a_label():
    assert read("6.20 s") == read("6,2") == Fraction(31, 5)
    assert read("frame 53") == read("#53") == Fraction(53, 25)
    assert read("09:12:08:05") == Fraction(11, 5)
    assert read("-0.5") == Fraction(-1, 2)


@pytest.mark.parametrize(
    ("text", "more", "error", "words"),
    [
        ("at noon", {}, RefusedError, "is no moment"),
        ("frame 3", {"fps": None}, RefusedError, "no frames"),
        ("09:12:08:05", {"start": None}, RefusedError, "no timecode"),
        ("09:12:08:25", {}, TimecodeError, "out of range"),
        ("1e9", {}, RefusedError, "is no moment"),
    ],
)
def test_what_is_no_moment_is_refused_in_words(text, more, error, words):
    with pytest.raises(error, match=words):
        read(text, **more)


def test_the_direction_is_said():
    event = ByHand(Fraction("6.20"), Fraction("9.05"))
    assert event.place == Fraction("-2.85")
    told = event.says("A001.mov", "31.wav", laid_s=None, fps=PAL.fps)
    assert told == "31.wav begins 2.850 s before A001.mov."
    told = event.says("A001.mov", "31.wav", laid_s=-2.81, fps=PAL.fps)
    assert told.endswith("Its sound is 1.00 frame late now: it moves 40.0 ms earlier.")
    assert "moves 50.0 ms later" in event.says("A001.mov", "31.wav", laid_s=-2.9, fps=PAL.fps)
    assert "begin together" in ByHand(Fraction(1), Fraction(1)).says("a", "b", laid_s=0.0, fps=PAL.fps)
