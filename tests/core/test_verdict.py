"""Verdicts: the cause, the direction in words, and the figures that led to it."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.conform.correction import propose
from vesk.core.kinds import AMBIGUOUS, MATCHED
from vesk.core.sound.measurement import Jump, Line, Measurement, refused
from vesk.core.timemap import TimeMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict import causes
from vesk.core.verdict.causes import Names, give_verdict

FPS = Fraction(25)


def heard(error_head_s: float, ppm: float = 0.0, span: float = 180.0) -> Measurement:
    """Return a pairing that timecode lays at 0 and whose sound then sits `error_head_s` late at the head."""
    line = Line(0.0, -error_head_s, ppm, 1e-6, 0.01)
    return Measurement(MATCHED, "", line, head_s=0.0, middle_s=span / 2, tail_s=span, share=1.0, log10_false_alarm=-80)


def verdict(found: Measurement, laid: TimeMap | None = None, late_s: float = 0.0):
    proposal = propose(
        Fraction(0), found.line, (found.head_s, found.middle_s, found.tail_s), fps=FPS, tolerance=Tolerance(),
        late_s=late_s,
    )  # fmt: skip
    return give_verdict(
        found, laid or TimeMap(Fraction(0)), names=Names("B", "S1"), fps=FPS, tolerance=Tolerance(), late_s=late_s,
        proposal=proposal, timecode_offset=Fraction(0),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("found", "cause", "says"),
    [
        (heard(0.0124), causes.SLIP, ["0.31 frame late", "A slip of −12.4 ms (earlier)"]),
        (heard(-0.0528), causes.OFFSET, ["1.32 frames early", "A slip of +52.8 ms (later)"]),
        (heard(-0.08), causes.WHOLE_FRAME, ["2.00 frames early"]),
        (heard(0.004), causes.WITHIN, ["0.10 frame late at worst"]),
        (heard(0.0, 66.2), causes.DRIFT, ["66.2 ppm slow", "0.30 frame late at the tail", "rate of +66.2 ppm"]),
        (heard(0.0, -66.2), causes.DRIFT, ["66.2 ppm fast", "0.30 frame early at the tail"]),
        (heard(0.0, 1001.0), causes.PULL, ["0.100 % slow", "pull-down"]),
        (heard(3600.0), causes.CLOCK, ["1 h 0 min late by its timecode"]),
    ],
)
def test_cause_and_direction(found, cause, says):
    given = verdict(found)
    assert given.cause == cause
    for words in says:
        assert words in given.text
    assert given.unless.startswith("unless")
    assert given.holds == (cause == causes.WITHIN)


def test_drift_inside_the_tolerance_is_left_alone():
    given = verdict(heard(0.0124, ppm=20.0))
    assert given.cause == causes.SLIP
    assert "ppm" not in given.text


def test_distance_is_not_the_clock():
    # 22 m away the scratch hears 64 ms late: by sound alone the take would look 1.6 frames early.
    found = heard(-22 / 343.0)
    assert verdict(found).cause == causes.OFFSET
    assert verdict(found, late_s=22 / 343.0).cause == causes.WITHIN


def test_after_its_proposal_a_take_is_in_sync():
    found = heard(0.0124, 66.2)
    taken = propose(Fraction(0), found.line, (0.0, 90.0, 180.0), fps=FPS, tolerance=Tolerance())
    given = verdict(found, taken.on(Fraction(0)))
    assert given.cause == causes.WITHIN
    assert "In sync" in given.text


def test_nothing_found_is_said():
    given = give_verdict(
        refused("the scratch is silent"), TimeMap(Fraction(0)), names=Names("A", "S1"), fps=FPS, tolerance=Tolerance()
    )
    assert (given.cause, given.holds) == (causes.NO_SOUND, False)
    assert "the scratch is silent" in given.text


def test_two_places_are_not_one():
    found = Measurement(AMBIGUOUS, "it fits at two places, 1 s and, 90% as well, 9 s", heard(0).line)
    given = give_verdict(found, TimeMap(Fraction(0)), names=Names("A", "S1"), fps=FPS, tolerance=Tolerance())
    assert given.cause == causes.AMBIGUOUS_FIT
    assert "90%" in given.text
    assert not given.holds


def test_who_moves_is_told_and_a_step_in_a_pause_beyond_the_tolerance_is_looked_at():
    found = heard(0.0)

    def told(**more):
        return verdict(replace(found, line=replace(found.line, **more)))

    moved = told(moves=((1.0, 0.0), (12.0, 0.0), (18.0, 0.0204), (29.0, 0.0204)))
    assert moved.holds
    assert "Somebody moves from 12 to 18 s: B hears them up to 20.4 ms later (7.0 m)" in moved.text
    step = Jump(15.0, 0.0125, 14.0, 17.5, 1e-4)
    either = told(unsure=(step,))
    assert (either.cause, either.holds) == (causes.JUMP, False)
    assert "somebody moved by 4.3 m, or S1 lost 600 samples" in either.text
    assert told(unsure=(replace(step, step_s=0.004),)).holds  # inside the tolerance either way
    assert (
        "clocks wander: up to 0.35 ms" in told(bends=((0.0, 0.0, 1e-6), (15.0, 3.5e-4, 1e-6), (30.0, 0.0, 1e-6))).text
    )
