"""What is remembered of a judgement is never stale: after any change pages say what computing anew says."""

import random
from fractions import Fraction

import pytest
from tests.conftest import shown
from tests.paper_day import paper_day, picture, sound, source

from vesk.actions import correct, facts, pairing, standing
from vesk.core.errors import VeskError
from vesk.core.sound.measurement import MATCHED, Line, Measurement
from vesk.dailies.measuring import to_json
from vesk.store import pairings


def measured(rng):
    """A measurement like any other: a line, and what it rests on."""
    line = Line(10.0, rng.uniform(-3, 1), rng.uniform(-80, 80), 1e-5, 0.1)
    found = Measurement(MATCHED, "", line, 1.0, 10.0, 19.0, log10_false_alarm=-rng.uniform(10, 90))
    return to_json(found)


def said(db, day):
    return [
        (
            one.pairing.id, one.state, one.judged.offset, one.proposal, one.errors, one.verdict, one.evidence,
            one.needs_person, one.rivalry, one.points, one.judged.rival, one.late_s, one.found,
        )
        for one in standing.of_day(db, day)
    ]  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_after_any_change_pages_say_what_computing_anew_says(db, settings, seed):
    rng = random.Random(seed)  # noqa: S311 - a test that can be repeated
    files = {f"A/a{n}.mov": picture(f"09:{n:02}:00:00") for n in range(3)}
    files |= {f"S1/s{n}.wav": sound(f"09:{n:02}:01:00") for n in range(3)}
    day = paper_day(db, files)
    pairing.pair_day(db, day)

    def one():
        return rng.choice(pairings.of_day(db, day.id))

    def measure():
        row = one()
        row.state, row.measurement = pairings.MEASURED, measured(rng)

    def own():
        row = one()
        correct.set_own(db, settings, row.id, version=row.version, slip=Fraction(rng.randint(-50, 50), 1000))

    def act(how, **more):
        row = one()
        how(db, settings, row.id, version=row.version, **more)

    def far():
        row = source(db, day, rng.choice(["A", "S1"]))
        row.distance_mm, row.delay_us = rng.randint(0, 20_000), rng.randint(-40_000, 40_000)

    def label():
        row = standing.of_day(db, day)[0].picture
        wanted = f"09:{rng.randint(0, 2):02}:0{rng.randint(0, 9)}:00"
        facts.put_right(db, settings, day, shown(row), field="timecode", value=wanted)
        pairing.pair_day(db, day)

    def tolerance():
        day.tolerance = Fraction(rng.randint(1, 40), 20)

    acts = [
        measure, measure, own, far, label, tolerance, lambda: act(correct.take_proposal), lambda: act(correct.check),
        lambda: act(correct.undo), lambda: act(correct.set_aside, reason="so"),
    ]  # fmt: skip
    for _ in range(40):
        try:
            rng.choice(acts)()
        except VeskError:
            continue  # nothing to undo, not measured yet
        db.flush()
        remembered = said(db, day)
        standing.forget()
        assert said(db, day) == remembered
