"""What is remembered of a judgement is never stale: after any change pages say what computing anew says."""

import random
from fractions import Fraction

import pytest
from tests.conftest import shown
from tests.paper_day import paper_day, picture, sound, source

from vesk.actions import correct, facts, gathering, overview, pairing
from vesk.actions.remembered import Remembered
from vesk.core.errors import VeskError
from vesk.core.kinds import MATCHED
from vesk.core.sound.measurement import Line, Measurement
from vesk.store import pairings
from vesk.store.tables import Pairing


def measured(rng):
    """A measurement like any other: a line, and what it rests on."""
    line = Line(10.0, rng.uniform(-3, 1), rng.uniform(-80, 80), 1e-5, 0.1)
    return Measurement(MATCHED, "", line, 1.0, 10.0, 19.0, log10_false_alarm=-rng.uniform(10, 90))


def said(db, day):
    return [
        (
            one.pairing.id, one.state, one.judged.offset, one.proposal, one.errors, one.verdict, one.evidence,
            one.needs_person, one.rivalry, one.points, one.judged.rival, one.late_s, one.found,
        )
        for one in gathering.of_day(db, day)
    ]  # fmt: skip


def overviewed(db, day):
    view = overview.Overview(db, day)
    standing = [
        (one.pairing.id, one.pairing.version, one.state, one.as_corrected, one.errors, one.verdict, one.aside)
        for one in view.statuses
    ]
    rows = [(row.id, row.version, row.aside, row.start, row.told) for row in view.recordings]
    sources = [(source.tag, source.distance_mm, source.delay_us, source.version) for source in view.sources]
    known = {key: (one.start, one.aside, one.values) for key, one in view.known.recordings.items()}
    return standing, rows, sources, known, dict(view.placed), view.known.oddities


def any_acts(db, settings, day, rng):
    """Everything that changes what a page says of a pairing, each at random."""

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
        row = gathering.of_day(db, day)[0].picture
        wanted = f"09:{rng.randint(0, 2):02}:0{rng.randint(0, 9)}:00"
        facts.put_right(db, settings, day, shown(row), field="timecode", value=wanted)
        pairing.pair_day(db, day)

    def tolerance():
        day.tolerance = Fraction(rng.randint(1, 40), 20)

    return [
        measure, measure, own, far, label, tolerance, lambda: act(correct.take_proposal), lambda: act(correct.check),
        lambda: act(correct.undo), lambda: act(correct.set_aside, reason="so"),
    ]  # fmt: skip


@pytest.mark.parametrize("seed", [0, pytest.param(1, marks=pytest.mark.slow)])
def test_after_any_change_pages_say_what_computing_anew_says(db, settings, seed):
    rng = random.Random(seed)  # noqa: S311 - a test that can be repeated
    files = {f"A/a{n}.mov": picture(f"09:{n:02}:00:00") for n in range(3)}
    files |= {f"S1/s{n}.wav": sound(f"09:{n:02}:01:00") for n in range(3)}
    day = paper_day(db, files)
    pairing.pair_day(db, day)

    acts = any_acts(db, settings, day, rng)
    for _ in range(40):
        try:
            rng.choice(acts)()
        except VeskError:
            continue  # nothing to undo, not measured yet
        db.flush()
        remembered, seen = said(db, day), overviewed(db, day)
        gathering.forget()
        assert said(db, day) == remembered
        overview.forget()
        assert overviewed(db, day) == seen  # what a page was given before rests on the rows as they are
        if rng.random() < 0.3:
            db.commit()


def test_what_was_not_asked_for_longest_goes_and_what_is_asked_for_stays():
    kept = Remembered(3)
    for key in "abc":
        kept.keep(key, key.upper())
    assert kept.find("a") == "A"
    kept.keep("d", "D")
    assert [kept.find(key) for key in "abcd"] == ["A", None, "C", "D"]
    kept.keep("a", "again")
    assert kept.find("a") == "again"
    kept.forget()
    assert kept.find("a") is None


def test_a_measurement_has_a_name_of_its_own_whichever_way_it_is_kept(db, settings):
    day = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("09:00:01:00")})
    pairing.pair_day(db, day)
    (row,) = pairings.of_day(db, day.id)
    assert row.measured_as is None
    names = set()
    for seed in (1, 1, 2):  # the very same values are another measurement all the same
        row.measurement = measured(random.Random(seed))  # noqa: S311
        db.flush()
        names.add(row.measured_as)
    assert len(names) == 3
    row.measurement = None
    assert row.measured_as is None
    db.delete(row)
    db.flush()
    found = measured(random.Random(3))  # noqa: S311
    made = Pairing(
        day_id=day.id, picture_id=row.picture_id, sound_id=row.sound_id, offset=Fraction(0), measurement=found
    )
    db.add(made)
    db.flush()
    assert made.measured_as
    assert gathering.of_day(db, day)[0].found is not None
