"""Whose a step is: others who heard the same moment, of the sound or of the picture, say."""

from dataclasses import replace

import pytest

from vesk.core.day.day import Match
from vesk.core.day.whose_step import steps_of_scratch
from vesk.core.sound.measurement import Jump, Line, without_steps

STEP = (29.9, 30.1, -0.03)
ONE = Match("a", "s", 0.0, 60.0, 1.0, 1e-6, steps=(STEP,))
TAG = {"a": "A", "a2": "A", "b": "B", "s": "S1", "t": "S2"}.__getitem__


def on_b(*steps, head_s=0.0, tail_s=60.0, share=1.0):
    """What B, whose picture begins half a second later, heard of the same sound: A's thirtieth second is its 29.5."""
    return Match("b", "s", head_s, tail_s, 0.5, 1e-6, steps=steps, share=share)


@pytest.mark.parametrize(
    ("other", "own"),
    [
        (on_b(), True),
        (on_b((29.4, 29.6, -0.03)), False),  # it heard it too: the recorder's
        (on_b((50.0, 50.2, -0.03)), True),  # another one
        (on_b((29.4, 29.6, 0.011)), True),
        (on_b(tail_s=31.0), False),  # it stopped just then, and says nothing
        (on_b(head_s=28.0), False),
        (on_b(share=0.3), False),  # it hears too little
        (replace(on_b(), picture="a2"), False),  # the same camera's: no other
        (Match("a", "t", 0.0, 60.0, -2.0, 1e-6, steps=(STEP,)), True),  # two recorders do not lose the same at once
        (Match("a", "t", 0.0, 60.0, -2.0, 1e-6), False),
        (Match("b", "t", 0.0, 60.0, -2.0, 1e-6), False),  # neither the same sound nor the same picture
    ],
)
def test_a_step_is_the_scratchs_own_where_somebody_says_so(other, own):
    assert steps_of_scratch(ONE, [ONE, other], TAG) == ((STEP,) if own else ())


def test_nobody_else_says_nothing_and_whoever_says_otherwise_counts():
    assert steps_of_scratch(ONE, [ONE], TAG) == ()
    otherwise = Match("a", "t", 0.0, 60.0, -2.0, 1e-6)
    assert steps_of_scratch(ONE, [on_b(), otherwise], TAG) == ()


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
