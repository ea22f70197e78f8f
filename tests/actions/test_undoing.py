"""Any entry of the journal is undone by what it was, and its undoing too; what somebody changed since is not."""

from fractions import Fraction

import pytest
from sqlalchemy import event
from tests.conftest import shown
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import (
    clocks,
    correct,
    facts,
    joining,
    merging,
    oddities,
    pairing,
    sources,
    sync_points,
    tolerance,
    undoing,
)
from vesk.core.errors import RefusedError, StaleError
from vesk.core.kinds import Clock, Together
from vesk.core.sound.measurement import refused
from vesk.store import journal, overrides, pairings, recordings, trail


@pytest.fixture
def day(db):
    made = paper_day(db, {
        "A/a.mov": picture("09:00:00:00"), "A/b.mov": picture("09:05:00:00"), "S1/a.wav": sound("08:59:58:00"),
        "S1/b.wav": sound("09:04:58:00"),
    })  # fmt: skip
    pairing.pair_day(db, made)
    db.commit()
    return made


def newest(db, day):
    return journal.of_day(db, day.id)[0]


def state(db, day):
    """Everything of a day that a person may decide."""
    db.expire_all()
    rows = pairings.of_day(db, day.id)
    corrections = pairings.standing_corrections(db, [row.id for row in rows])
    return (
        [(row.state, row.reason, row.tolerance) for row in rows],
        {number: (row.slip, row.ppm) for number, row in corrections.items()},
        {number: {name: row.value for name, row in of.items()}
         for number, of in overrides.standing_of_day(db, day.id).items() if of},
        [(s.tag, s.name, s.distance_mm, s.clock, s.gone) for s in (source(db, day, t) for t in ("A", "S1"))],
        recording(db, day, "a.mov").source_id,
        sorted(overrides.accepted(db, day.id)), day.tolerance,
        [row.name for row in recordings.of_day(db, day.id) if row.state == recordings.READY],
    )  # fmt: skip


def acts(db, settings, day):
    one = pairings.of_day(db, day.id)[0]
    a, s1 = source(db, day, "A"), source(db, day, "S1")
    file = recording(db, day, "a.mov")
    return {
        "slip": lambda: correct.set_own(db, settings, one.id, version=one.version, slip=Fraction(1, 25)),
        "aside": lambda: correct.set_aside(db, settings, one.id, version=one.version, reason="wild"),
        "fact": lambda: facts.put_right(db, settings, day, shown(file), field="scene", value="9"),
        "move": lambda: sources.move(db, settings, day, shown(file), to_tag="Z"),
        "describe": lambda: sources.describe(
            db, settings, s1.id, version=s1.version, name="boom", distance_m=Fraction(5, 2), delay_ms=0),
        "clock": lambda: clocks.choose_clock(db, settings, a.id, version=a.version, clock=Clock.NONE),
        "meant so": lambda: oddities.accept(db, settings, day, "gap:S1", "lunch"),
        "tolerance": lambda: tolerance.set_of_day(db, settings, day.id, version=day.version, text="0.5"),
        "together": lambda: merging.merge_by_hand(
            db, settings, day, shown(file, recording(db, day, "b.mov")), Together.RUN),
        "point": lambda: sync_points.make(db, settings, file.id, at="1.5", name="door", kind="other"),
    }  # fmt: skip


@pytest.mark.parametrize(
    "kind", ["slip", "aside", "fact", "move", "describe", "clock", "meant so", "tolerance", "together", "point"]
)
def test_an_entry_is_undone_and_its_undoing_too(db, settings, day, kind):
    before = state(db, day)
    acts(db, settings, day)[kind]()
    db.commit()
    after = state(db, day)
    assert (after != before) is (kind != "point")
    line = newest(db, day)
    assert journal.undoable(db, [line]) == {line.id}
    undoing.undo_line(db, settings, day, line.id)
    db.commit()
    assert state(db, day) == before
    undone = newest(db, day)
    assert undone.what.startswith("undone: ")
    assert journal.undoable(db, [line, undone]) == {undone.id}
    undoing.undo_line(db, settings, day, undone.id)
    db.commit()
    assert state(db, day) == after
    assert journal.undoable(db, journal.of_day(db, day.id)) >= {line.id}
    with pytest.raises(RefusedError, match="undone already"):
        undoing.undo_line(db, settings, day, undone.id)


def test_what_was_changed_again_since_is_not_undone_beneath_it(db, settings, day):
    file = recording(db, day, "a.mov")
    s1 = source(db, day, "S1")
    sources.describe(db, settings, s1.id, version=s1.version, name="boom", distance_m=Fraction(5, 2), delay_ms=0)
    db.commit()
    first = newest(db, day)
    s1 = source(db, day, "S1")
    sources.describe(db, settings, s1.id, version=s1.version, name="boom", distance_m=Fraction(4), delay_ms=0)
    db.commit()
    later = newest(db, day)
    assert journal.undoable(db, [first, later]) == {later.id}
    with pytest.raises(StaleError, match="changed again"):
        undoing.undo_line(db, settings, day, first.id)
    db.rollback()
    undoing.undo_line(db, settings, day, later.id)
    undoing.undo_line(db, settings, day, first.id)
    db.commit()
    assert source(db, day, "S1").distance_mm == 0
    # What Vesk found out by itself is nobody's to undo.
    pairing.pair_day(db, day)
    db.commit()
    assert file.source_id == source(db, day, "A").id


def test_whoever_looks_at_what_was_undone_is_told(db, settings, day):
    one = pairings.of_day(db, day.id)[0]
    correct.set_own(db, settings, one.id, version=one.version, slip=Fraction(1, 25))
    db.commit()
    seen = pairings.get(db, one.id).version
    undoing.undo_line(db, settings, day, newest(db, day).id)
    db.commit()
    with pytest.raises(StaleError):
        correct.check(db, settings, one.id, version=seen)


def test_a_pairing_by_hand_is_withdrawn_also_after_it_was_measured(db, settings, day):
    both = joining.both_of(db, day, recording(db, day, "a.mov").id, recording(db, day, "b.wav").id)
    row = joining.belong(db, settings, both, version=0)
    db.commit()
    line = newest(db, day)
    row.state, row.measurement = pairings.MEASURED, refused("nothing in common")
    db.commit()
    undoing.undo_line(db, settings, day, line.id)
    db.commit()
    assert pairings.get(db, row.id).state == pairings.WITHDRAWN
    undoing.undo_line(db, settings, day, newest(db, day).id)
    db.commit()
    db.expire_all()
    assert (pairings.get(db, row.id).said_by, pairings.get(db, row.id).state != pairings.WITHDRAWN) == (
        "test editor",
        True,
    )


def test_lines_are_found_by_person_take_and_device(db, settings, day):
    one = pairings.of_day(db, day.id)[0]
    correct.set_own(db, settings, one.id, version=one.version, slip=Fraction(1, 25))
    db.commit()
    s1 = source(db, day, "S1")
    sources.describe(db, settings, s1.id, version=s1.version, name="boom", distance_m=Fraction(5, 2), delay_ms=0)
    db.commit()
    facts.put_right(db, settings, day, shown(recording(db, day, "b.mov")), field="scene", value="9")
    db.commit()

    def found(**asked):
        return [line.what for line in journal.of_day(db, day.id, journal.Asked(**asked))]

    assert len(found(by=settings.person)) == 3
    assert found(by="nobody") == []
    assert [what[:10] for what in found(take="b.mov", by=settings.person)] == ["scene of b"]
    assert any(what.startswith("a.mov with") for what in found(take="a.mov", by=settings.person))
    assert found(take="%") == []
    assert any("boom" in what or "2.5" in what for what in found(device="S1"))
    assert all("2.5" not in what for what in found(device="A"))


def test_what_is_looked_at_of_a_take_that_was_slipped_on_and_on_is_what_came_since(db, settings, day):
    for _ in range(20):
        acts(db, settings, day)["slip"]()
        db.commit()
    listed = journal.of_day(db, day.id, most=2)
    db.expunge_all()
    loaded = []
    count = lambda row, _: loaded.append(row.id)  # noqa: E731
    event.listen(trail.RowChange, "load", count)
    try:
        assert listed[0].id in journal.undoable(db, listed)
    finally:
        event.remove(trail.RowChange, "load", count)
    assert 0 < len(loaded) < 12
    told = list(journal.every_line(db, day.id, journal.Asked()))
    assert len(told) == len(journal.of_day(db, day.id))
    assert told[-1][1:] == (listed[0].by, listed[0].what)
