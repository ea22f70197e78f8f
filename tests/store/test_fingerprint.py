"""A day's fingerprint: every row that is added, changed or taken away shows in its table's mark, and in no other's."""

from fractions import Fraction

import pytest
from sqlalchemy import text
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import pairing
from vesk.core.kinds import Clock, Origin, ReportKind, Sense, SyncPointKind
from vesk.store import compared, fingerprint, pairings
from vesk.store.session import open_session
from vesk.store.tables import (
    AcceptedRow,
    CheckRow,
    ClockPeriod,
    CorrectionRow,
    OverrideRow,
    ReportRow,
    SyncPointRow,
)


@pytest.fixture
def day(db):
    made = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("09:00:01:00")})
    pairing.pair_day(db, made)
    db.commit()
    return made


def changed(db, day, work):
    """Return the tables whose marks a piece of work changes."""
    before = fingerprint.of_day(db, day.id)
    work()
    after = fingerprint.of_day(db, day.id)
    return {name for name in before if before[name] != after[name]}


def rows_of(db, day):
    """One row for each table that hangs on a day, by table."""
    (pair,) = pairings.of_day(db, day.id)
    file, device = recording(db, day, "a.mov"), source(db, day, "A")
    return {
        "override": OverrideRow(recording_id=file.id, field="scene", value="7", made_by="me"),
        "clock_period": ClockPeriod(
            source_id=device.id, since=Fraction(1), before=Fraction(2), clock=Clock.LTC, made_by="me"
        ),
        "report": ReportRow(day_id=day.id, name="r.csv", kind=ReportKind.SOUND, made_by="me"),
        "accepted": AcceptedRow(day_id=day.id, oddity="x", note="", made_by="me"),
        "sync_point": SyncPointRow(recording_id=file.id, how=Sense.SEEN, kind=SyncPointKind.CLAP, frame=3, likely=2.0),
        "correction": CorrectionRow(
            pairing_id=pair.id, slip=Fraction(1), ppm=Fraction(0), anchor=Fraction(0), origin=Origin.OWN, made_by="me"
        ),
        "check_mark": CheckRow(pairing_id=pair.id, made_by="me"),
    }


@pytest.mark.parametrize(
    "table", ["override", "clock_period", "report", "accepted", "sync_point", "correction", "check_mark"]
)
def test_a_row_that_comes_changes_and_goes_shows_each_time(db, day, table):
    row = rows_of(db, day)[table]
    field = next(name for name in ("value", "clock", "name", "note", "state", "ppm", "made_by") if hasattr(row, name))
    other = {"clock": Clock.NONE, "state": "confirmed", "ppm": Fraction(5)}.get(field, "other")
    assert changed(db, day, lambda: db.add(row)) == {table}
    assert changed(db, day, lambda: setattr(row, field, other)) == {table}  # in the very same transaction
    db.commit()
    assert changed(db, day, lambda: db.delete(row)) == {table}
    assert changed(db, day, lambda: None) == set()


def test_rows_of_a_day_itself_show_and_those_of_another_day_do_not(db, day):
    assert changed(db, day, lambda: setattr(day, "tolerance", Fraction(1, 3))) == {"day"}
    file, wav = recording(db, day, "a.mov"), recording(db, day, "a.wav")
    assert changed(db, day, lambda: setattr(file, "unpaired", "so")) == {"recording"}
    assert changed(db, day, lambda: compared.keep(db, file, wav, same_moment=True)) == {"compared"}
    assert changed(db, day, lambda: setattr(source(db, day, "A"), "name", "x")) == {"source"}
    (pair,) = pairings.of_day(db, day.id)
    assert changed(db, day, lambda: setattr(pair, "reason", "so")) == {"pairing"}
    other = paper_day(db, {"A/a.mov": picture("09:00:00:00")})
    assert changed(db, day, lambda: setattr(recording(db, other, "a.mov"), "unpaired", "so")) == set()


def test_a_write_that_changes_nothing_to_see_is_told_all_the_same_and_a_transaction_of_others_only_once_it_ends(
    db, settings, day
):
    before = fingerprint.of_day(db, day.id)
    with open_session(settings.sqlalchemy_url) as theirs:
        theirs.execute(text("UPDATE recording SET unpaired = unpaired WHERE day_id = :d"), {"d": day.id})
        assert fingerprint.of_day(db, day.id) == before
        theirs.commit()
    after = fingerprint.of_day(db, day.id)
    assert {name for name in before if before[name] != after[name]} == {"recording"}
