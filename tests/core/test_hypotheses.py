"""Every cause of the job, decided by weighing hypotheses against what was measured."""

from dataclasses import replace
from fractions import Fraction

import pytest

from vesk.core.conform.correction import propose
from vesk.core.kinds import MATCHED, Gained
from vesk.core.sound.measurement import Jump, Line, Measurement, refused
from vesk.core.timemap import TimeMap
from vesk.core.tolerance import Tolerance
from vesk.core.verdict import causes, hypotheses
from vesk.core.verdict.causes import Names, Setting, give_verdict

PAL, NTSC = Fraction(25), Fraction(30000, 1001)


def verdict(error_s=0.0, ppm=0.0, *, fps=PAL, jumps=(), span=60.0, **known):
    line = Line(span / 2, -error_s, ppm, 1e-6, 0.01, jumps)
    found = Measurement(MATCHED, "", line, 0.0, span / 2, span, share=1.0, log10_false_alarm=-80)
    proposal = propose(Fraction(0), line, (0.0, span / 2, span), fps=fps, tolerance=Tolerance())
    return give_verdict(
        found, TimeMap(Fraction(0)), names=Names("B", "S2"), fps=fps, tolerance=Tolerance(), proposal=proposal,
        timecode_offset=Fraction(0), setting=Setting(float(fps), 0.0, 0.0, **known),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("given", "cause", "says"),
    [
        (verdict(0.002), causes.WITHIN, "In sync"),
        (verdict(0.08), causes.WHOLE_FRAME, "2.00 frames late"),
        (verdict(-0.0172), causes.SLIP, "0.43 frame early"),
        (verdict(3.12), causes.OFFSET, "fixed offset"),
        (verdict(7203.1), causes.CLOCK, "+2 h"),
        (verdict(8000.0), causes.CLOCK, "2 h 13 min late"),
        (verdict(36.05, fps=NTSC, label_hours=10.0), causes.DROP, "3.6 s an hour of label"),
        (verdict(-36.02, fps=Fraction(24), label_hours=10.0), causes.RATE_LABEL, "3.6 s an hour of label"),
        (verdict(36.22, label_hours=10.0), causes.CLOCK, "36.2 s late"),
        (verdict(0.0, 212.0, span=300.0), causes.DRIFT, "212.0 ppm slow"),
        (verdict(0.0, -999.3), causes.PULL, "pull-down or pull-up"),
        (verdict(0.0, 1001.0, sample_rate=48_048), causes.SAMPLE_RATE, "48048 Hz"),
        (verdict(0.0, -81_250.0), causes.SAMPLE_RATE, "44.1 kHz named 48"),
        (verdict(0.0, 41_650.0), causes.SPEED, "25 fps run at 24"),
        (verdict(-0.064, seen_s=(-0.02, 0.02)), causes.DISTANCE, "22 m further"),
        (verdict(0.04, seen_s=(-0.02, 0.01)), causes.DELAY, "its own picture|off its picture"),
        (verdict(0.0, off_speed="100 fps played at 25"), causes.OFF_SPEED, "100 fps played at 25"),
        (verdict(jumps=(Jump(30.0, 801 / 48_000, 29.99, 30.01, 1e-6),)), causes.JUMP, "S2 lost 801 samples at 30.00 s"),
    ],
)
def test_the_cause_and_its_figures(given, cause, says):
    assert given.cause == cause
    assert any(words in given.text for words in says.split("|"))
    assert given.holds == (cause == causes.WITHIN)


@pytest.mark.parametrize(
    ("samples", "kinds", "brief", "says"),
    [
        ((255, 255, 256), [None], "S2 lost 255 samples 3 times", "3 times, at 20.00, 30.00 and 40.00 s."),
        (
            (900, -20, 95),
            [None, Gained.TWICE, None],
            "S2 jumped 3 times: lost 995 samples in all and doubled 20 samples in all",
            "at 20.00, 30.00 and 40.00 s.",
        ),
        ((255,) * 9, [None], "S2 lost 255 samples 9 times", "9 times, first at 20.00, last at 100.00 s."),
        ((-512,), [Gained.TWICE], "S2 doubled 512 samples at 20.0 s", "S2 doubled 512 samples at 20.00 s."),
        (
            (-512,),
            [Gained.SILENCE],
            "S2 put in 512 samples of silence at 20.0 s",
            "put in 512 samples of silence at 20.00",
        ),
        ((-512,) * 3, [None, Gained.TWICE, None], "S2 gained 512 samples 3 times", "gained 512 samples 3 times, at"),
    ],
)
def test_jumps_are_told_in_few_words_and_as_what_they_are(samples, kinds, brief, says):
    found = [Jump(20.0 + 10 * n, one / 48_000, 0, 0, 1e-6) for n, one in enumerate(samples)]
    kinds = kinds * (len(samples) // len(kinds))
    placed = [
        replace(one, low_s=one.at_s, high_s=one.at_s, gained=kind) for one, kind in zip(found, kinds, strict=True)
    ]
    given = verdict(span=120.0, jumps=tuple(placed))
    assert given.brief == brief
    assert says in given.text


def test_a_better_partner_makes_it_the_wrong_one():
    given = give_verdict(
        refused("chance"), TimeMap(Fraction(0)), names=Names("A", "S1"), fps=PAL, tolerance=Tolerance(),
        setting=Setting(25.0, 0.0, 0.0, better="S1 · 36_02.wav"),
    )  # fmt: skip
    assert given.cause == causes.WRONG_PARTNER
    assert "36_02.wav" in given.text


def test_a_jump_that_is_mended_holds():
    jump = Jump(31.0, 1601 / 48_000, 30.99, 31.01, 1e-6)
    line = Line(30.0, 0.0, 0.0, 1e-6, 0.01, (jump,))
    found = Measurement(MATCHED, "", line, 0.0, 30.0, 60.0, share=1.0, log10_false_alarm=-80)
    proposal = propose(Fraction(0), line, (0.0, 30.0, 60.0), fps=PAL, tolerance=Tolerance())
    assert [round(float(step) * 48_000) for _, step in proposal.jumps] == [1601]
    given = give_verdict(
        found, proposal.on(Fraction(0)), names=Names("A", "S2"), fps=PAL, tolerance=Tolerance(), proposal=proposal,
        timecode_offset=Fraction(0),
    )  # fmt: skip
    assert given.cause == causes.WITHIN
    assert "S2 lost 1\N{NARROW NO-BREAK SPACE}601 samples at 31.00 s; that is mended." in given.text
    small = verdict(jumps=(replace(jump, step_s=240 / 48_000),))
    assert small.holds
    assert "S2 lost 240 samples at 31.00 s; that stays within what is let pass." in small.text


def test_narrow_beats_wide_only_where_it_fits():
    setting = Setting(25.0, 0.01, 60.0)
    whole, between = hypotheses.levels(0.04, 1e-5, setting), hypotheses.levels(0.031, 1e-5, setting)
    assert whole[0].cause == causes.WHOLE_FRAME
    assert between[0].cause == causes.SLIP
    assert [one.weight for one in whole] == sorted((one.weight for one in whole), reverse=True)
