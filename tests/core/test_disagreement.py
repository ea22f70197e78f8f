"""What evidence that disagrees is said to mean, what would settle it, and what places without sound rest on."""

from dataclasses import replace
from fractions import Fraction

from vesk.core.day.day import Tie
from vesk.core.day.solution import Contradiction, Place
from vesk.core.kinds import LTC, Discord, Witness
from vesk.core.verdict.disagreement import Disagreement, placed_says

FPS = Fraction(25)
PAIR = (("C1", "S1"),)


def test_each_kind_says_who_disagrees_by_how_much_and_what_settles_it():
    early = Disagreement(Contradiction(Discord.LATENESS, "C", PAIR, -0.04, LTC, 2, 2), 0.04, 0.0)
    assert early.says("C", "S1", FPS).startswith(
        "Evidence disagrees: C's scratch is 1.00 frame early (40.0 ms) against its own picture, say its LTC and 2 of 2 "
        "claps. Along the scratch the sound is 1.00 frame late"
    )
    assert "a look at a clap settles it" in early.settled_by("C")
    assert early.brief("C", FPS) == "C hears 1.00 frame early"
    no_clap = replace(early, found=replace(early.found, agreeing=0, claps=0))
    assert "a clap that is both seen and heard would settle it" in no_clap.settled_by("C")
    tone = Disagreement(Contradiction(Discord.PATTERN, "B", PAIR, 2.7, pattern=1), None, None)
    assert "sound lays S1 2.70 s later than the clocks of both, to which 1 other take of B keeps" in tone.says(
        "B", "S1", FPS
    )
    assert "two takes share this sound" in tone.settled_by("B")
    assert tone.brief("B", FPS) == "sound and clock disagree"
    far = Disagreement(Contradiction(Discord.PATTERN, "B", PAIR, 0.035, pattern=7), None, None)
    assert "its microphone stood 12 m further off here" in far.settled_by("B")
    point = Disagreement(Contradiction(Discord.POINT, "A", PAIR, -2.0, name="the bell"), None, None)
    assert "2.00 s earlier than the same event on both does (the bell)" in point.says("A", "S1", FPS)
    assert "put on the wrong moment" in point.settled_by("A")
    assert point.brief("A", FPS) == "sound and sync point disagree"
    clap = Disagreement(Contradiction(Discord.CLAP, "A", PAIR, 0.12, agreeing=1, claps=2), None, None)
    assert "in this take A's scratch is at least 3.00 frames late (120.0 ms) against its picture beside" in clap.says(
        "A", "S1", FPS
    )
    assert "confirm it or refuse it" in clap.settled_by("A")
    slate = Disagreement(Contradiction(Discord.SLATE, "A", PAIR, 0, pattern=7, name="1 / 2 on A, 1 / 3 on S1"), 0, 0)
    assert "not: 1 / 2 on A, 1 / 3 on S1. 7 other takes have one slate on both." in slate.says("A", "S1", FPS)
    assert slate.brief("A", FPS) == "slates disagree"
    split = replace(early, found=replace(early.found, agreeing=1, claps=2))
    assert "say its LTC and 1 of 2 claps; 1 clap says otherwise." in split.says("C", "S1", FPS)


def test_a_place_says_what_it_rests_on():
    place = Place("M1", "S1", 0.0, -2.0, 0.0126, 0.0, Witness.SYNC_POINT, 0.0)
    assert placed_says(place, "M", "M has no sound") == (
        "No sound places it (M has no sound); the clap that it saw does (±24.7 ms)."
    )
    assert "M's clock does, known from its other takes" in placed_says(replace(place, by=Witness.TIMECODE), "M", "")
    tie = Tie("M1", "S1", 4.0, -2.0, 0.0126, Witness.SYNC_POINT, "door slams")
    assert "the same event on both does: door slams" in placed_says(replace(place, tie=tie), "M", "")
    hand = replace(tie, by=Witness.PERSON, name="Ines")
    assert "Ines joined it by hand" in placed_says(replace(place, by=Witness.PERSON, tie=hand), "M", "")
