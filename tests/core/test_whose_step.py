"""Whose a step is: others who heard the same moment, of the sound or of the picture, say."""

from dataclasses import replace

import numpy as np
import pytest

from vesk.core.day.day import Match
from vesk.core.day.evidence import match_of
from vesk.core.day.whose_step import steps_of_scratch
from vesk.core.kinds import MATCHED
from vesk.core.sound.measurement import Jump, Line, Measurement, TracePoint, without_steps

STEP = (29.9, 30.1, -0.03)
ONE = Match("a", "s", 0.0, 60.0, 1.0, 1e-6, steps=(STEP,))
TAG = {"a": "A", "a2": "A", "b": "B", "s": "S1", "t": "S2"}.__getitem__


WHOLE = ((0.5, 59.5),)


def on_b(*steps, agreeing=WHOLE):
    """What B, whose picture begins half a second later, heard of the same sound: A's thirtieth second is its 29.5."""
    return Match("b", "s", 0.0, 60.0, 0.5, 1e-6, steps=steps, agreeing=agreeing)


@pytest.mark.parametrize(
    ("other", "own"),
    [
        (on_b(), True),
        (on_b((29.4, 29.6, -0.03)), False),  # it heard it too: the recorder's
        (on_b((50.0, 50.2, -0.03)), True),  # another one
        (on_b((29.4, 29.6, 0.011)), True),
        (on_b(agreeing=((0.5, 31.0),)), False),  # it agreed no longer, or stopped just then, and says nothing
        (on_b(agreeing=((28.0, 59.5),)), False),
        (on_b(agreeing=((0.5, 27.0), (36.0, 59.5))), False),  # nobody spoke
        (on_b(agreeing=()), False),
        (replace(on_b(), picture="a2"), False),  # the same camera's: no other
        (Match("a", "t", 0.0, 60.0, -2.0, 1e-6, steps=(STEP,)), True),  # two recorders do not lose the same at once
        (Match("a", "t", 0.0, 60.0, -2.0, 1e-6, agreeing=WHOLE), False),
        (Match("b", "t", 0.0, 60.0, -2.0, 1e-6, agreeing=WHOLE), False),  # neither the same sound nor the same picture
    ],
)
def test_a_step_is_the_scratchs_own_where_somebody_says_so(other, own):
    assert steps_of_scratch(ONE, [ONE, other], TAG) == ((STEP,) if own else ())


def test_nobody_else_says_nothing_and_whoever_says_otherwise_counts():
    assert steps_of_scratch(ONE, [ONE], TAG) == ()
    otherwise = Match("a", "t", 0.0, 60.0, -2.0, 1e-6, agreeing=WHOLE)
    assert steps_of_scratch(ONE, [on_b(), otherwise], TAG) == ()


def test_windows_that_went_on_agreeing_are_told_in_stretches():
    """A camera that loses the sound before its end says nothing of what stepped there, however much it shares."""
    line = Line(30.0, 1.0, 0.0, 1e-6, 0.1)
    at = np.arange(0.5, 60, 0.5)
    trace = tuple(TracePoint(float(one), 1.0, 1.0, agrees=one < 40 and not 10 < one < 20) for one in at)
    match = match_of("b", "s", Measurement(MATCHED, "", line, 0.0, 30.0, 60.0, trace, share=0.5))
    assert match.agreeing == ((1.0, 9.5), (20.5, 39.0))


def test_what_may_be_a_way_is_no_jump_where_another_camera_heard_none():
    maybe = replace(ONE, steps=(), unsure=(STEP,))
    assert steps_of_scratch(maybe, [on_b()], TAG) == (STEP,)
    line = Line(30.0, 1.0, 0.0, 1e-6, 0.1, unsure=(Jump(30.0, -0.03, 29.9, 30.1, 1e-4),))
    assert without_steps(line, (STEP,)) == (replace(line, unsure=()), ())
    assert without_steps(line, ()) == (line, ())


def test_steps_before_count_for_which_second_of_the_sound_is_heard():
    """B rolls on after a loss of a second that A heard too: without it the moments would lie a second apart."""
    lost, own = (9.9, 10.1, 1.0), (29.9, 30.1, -0.03)
    one = replace(ONE, steps=(lost, own))
    heard = on_b((9.4, 9.6, 1.0), (29.4, 29.6, -0.03))
    assert steps_of_scratch(one, [heard], TAG) == ()
    assert steps_of_scratch(one, [on_b((9.4, 9.6, 1.0))], TAG) == (own,)
