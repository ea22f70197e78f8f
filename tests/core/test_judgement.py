"""What is said of a pair follows from what is known of it, and from nothing else."""

from dataclasses import replace
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vesk.core.conform.correction import Correction
from vesk.core.day.solution import Agreement, Place
from vesk.core.kinds import MATCHED, Witness
from vesk.core.pairing.evidence import SOUND, SYNC_POINT, TIMECODE
from vesk.core.pairing.judgement import Claps, Judgement, Side
from vesk.core.pairing.rivals import Rivalry
from vesk.core.sound.measurement import Jump, Line, Measurement, refused
from vesk.core.tolerance import Tolerance
from vesk.core.verdict import causes

PAL = Fraction(25)
A = Side("A", Fraction(60), Fraction(36_000), "header")
S1 = Side("S1", Fraction(66), Fraction(35_997), "LTC")


def found(offset_s=-3.0, ppm=0.0):
    line = Line(30.0, offset_s - ppm * 30e-6, ppm, 1e-6, 0.01)
    return Measurement("matched", "", line, 0.0, 30.0, 60.0, log10_false_alarm=-60.0)


def judged(measured, **more):
    values = {"picture": A, "sound": S1, "found": measured, "offset": Fraction(-3), "fps": PAL, "sample_rate": 48_000}
    return Judgement(**{**values, **more})


@given(st.floats(-0.4, 0.4), st.floats(-90, 90))
def test_as_proposed_the_sound_lies_where_it_belongs(late_s, ppm):
    one = judged(found(-3.0 - late_s, ppm))
    mended = judged(one.found, correction=one.proposal)
    assert max(abs(error) for error in mended.errors.all) < float(mended.tolerance.seconds(PAL))
    assert mended.verdict.holds
    # What is proposed starts from the clocks, whatever was corrected before.
    assert mended.proposal == one.proposal


@pytest.mark.parametrize("known_s", [0.0, 0.04])
def test_what_is_known_of_the_microphones_is_taken_out(known_s):
    one = judged(found(-3.0 + 0.04), known_late_s=known_s)
    assert one.errors.head_s == pytest.approx(known_s - 0.04, abs=1e-9)
    heard = {item.kind: item.offset_s for item in one.evidence}
    assert heard[SOUND] == pytest.approx(-3.0 + 0.04 - known_s)
    assert heard[TIMECODE] == -3.0


def test_where_another_claims_the_same_moments_nothing_is_proposed():
    for better, cause in ((False, causes.AMBIGUOUS_FIT), (True, causes.WRONG_PARTNER)):
        one = judged(found(), rivalry=Rivalry("7", better), rival="S1 · 31A_02.wav")
        assert (one.settled, one.proposal, one.errors) == (False, None, None)
        assert one.verdict.cause == cause
        assert "S1 · 31A_02.wav" in one.verdict.text


def test_what_is_not_known_is_said_so():
    nothing = judged(None)
    assert (nothing.verdict, nothing.proposal, nothing.errors) == (None, None, None)
    assert nothing.points == (0.0, 30.0, 60.0)  # what the clocks say that the two share
    assert nothing.evidence[1].says == "not measured yet"
    silent = judged(refused("no common sound"), picture=replace(A, start=None))
    assert silent.verdict.cause == causes.NO_SOUND
    assert [item.offset_s for item in silent.evidence] == [None, None]
    assert "A has no clock" in silent.evidence[0].says
    slow = judged(refused("no common sound"), picture=replace(A, off_speed="4 times slowed"))
    assert slow.verdict.cause == causes.OFF_SPEED


def test_timecode_is_told_as_exactly_as_its_clocks_are():
    header, coded = judged(found()), judged(found(), picture=replace(A, clock="LTC"))
    assert (header.evidence[0].uncertainty_s, coded.evidence[0].uncertainty_s) == (0.02, 0.001)


def test_claps_bound_the_error_and_only_confirmed_ones_count_against_a_camera():
    claps = Claps(seen=((1.96, 2.02, False),), heard=(Fraction(5),))
    one = judged(found(), claps=claps)
    bound = one.error_by_claps(confirmed=False)
    assert bound.low_s <= 0.0 <= bound.high_s
    assert one.error_by_claps(confirmed=True) is None
    assert one.setting.seen_s is None
    assert "proposed" in one.evidence[2].says
    sure = judged(found(), claps=replace(claps, seen=((1.96, 2.02, True),)))
    assert sure.setting.seen_s is not None
    assert "confirmed" in sure.evidence[2].says
    assert [item.kind for item in judged(found()).evidence] == [TIMECODE, SOUND]  # nobody looked for claps
    far = judged(found(), claps=replace(claps, heard=(Fraction(30),)))
    assert far.evidence[2].kind == SYNC_POINT
    assert far.evidence[2].says == "a clap is seen, but none is heard near it"
    lantern = judged(found(), claps=Claps(heard=(Fraction(30),), unclear=0.21))
    assert "something in the picture is 21 % like a clap" in lantern.evidence[2].says


def test_evidence_says_otherwise_only_beyond_its_own_error_and_the_tolerance():
    def otherwise(apart_ms, sd_ms, frames="1/4"):
        said = Agreement(Witness.TIMECODE, -3.0, sd_ms / 1000, apart_ms / sd_ms)
        place = Place("p", "s", 30.0, -3.0, 1e-5, 0.0, Witness.SOUND, 0.0, (said,))
        one = judged(found(), place=place, tolerance=Tolerance(Fraction(frames)))
        return [item.otherwise for item in one.evidence]

    assert otherwise(-2.9, 0.5) == [False, False]  # a talker stands a metre away: no clock is wrong
    assert otherwise(-2.9, 0.5, "1/40") == [True, False]
    assert otherwise(30, 0.5) == [True, False]
    assert otherwise(30, 20) == [False, False]


def test_a_slip_that_stands_moves_the_error_and_not_the_evidence():
    plain, slipped = judged(found()), judged(found(), correction=Correction(slip=Fraction(1, 25)))
    assert slipped.errors.head_s - plain.errors.head_s == pytest.approx(0.04)
    assert slipped.evidence == plain.evidence
    assert slipped.verdict.cause == causes.WHOLE_FRAME


def test_a_rate_that_is_no_clocks_is_not_corrected_and_the_nearer_end_sets_the_line():
    walk = Line(20.0, 0.3, -330.0, 1e-6, 0.1)  # who goes away for 40 s: 13 ms later at the tail
    found = Measurement(MATCHED, "", walk, head_s=0.0, middle_s=20.0, tail_s=40.0, share=1.0, log10_false_alarm=-80)
    near = walk.offset_at(0.0)
    place = Place("A", "S", 0.0, near, 1e-6, 20.0, Witness.SOUND, 0.0, steady_ppm=20.0)
    sides = Side("A", Fraction(40)), Side("S1", Fraction(44))
    told = Judgement(*sides, found, Fraction(3, 10), Fraction(25), 48_000, place=place)
    assert told.proposal.ppm == 0
    assert told.line.offset_at(0.0) == pytest.approx(near)
    assert told.line.moves[-1] == (40.0, pytest.approx(350e-6 * 40))
    assert "Somebody moves from 0 to 40 s: A hears them up to 14.0 ms later (4.8 m)" in told.verdict.text
    without = replace(told, place=replace(place, steady_ppm=None))
    assert without.proposal.ppm == -330


def test_a_step_that_may_be_either_is_mended_where_a_person_says_so_and_only_there():
    step = Jump(24.0, -0.0125, 22.0, 26.0, 1e-4)  # what comes after it is heard 12.5 ms earlier: the line goes there
    line = replace(found().line, unsure=(step,))
    told = judged(replace(found(), line=line))
    assert not told.verdict.holds
    assert told.proposal.jumps == ()
    mended = replace(told, correction=told.as_jump)
    assert len(mended.correction.jumps) == 1
    assert mended.verdict.holds, mended.verdict.text
    assert max(map(abs, mended.errors.all)) < 1e-6
    # Where the head is heard, before the step, and where the tail is: both as they were measured.
    assert mended.line.offset_at(10.0) == pytest.approx(line.offset_at(10.0) + 0.0125)
    assert mended.line.offset_at(50.0) == pytest.approx(line.offset_at(50.0))
    slipped = replace(told, correction=Correction(slip=Fraction(1, 100)))
    assert slipped.line.unsure == (step,)
