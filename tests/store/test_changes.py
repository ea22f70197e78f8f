"""Versions: counted by the library for what is written and for what hangs on a row; another's change is never lost."""

import pytest
from sqlalchemy import text
from sqlalchemy.orm.exc import StaleDataError
from tests.paper_day import paper_day, picture, sound, source

from vesk.actions import pairing
from vesk.core.errors import StaleError
from vesk.store import changes, days, pairings, recordings
from vesk.web import create_app


@pytest.fixture
def day(db):
    made = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("09:00:01:00")})
    pairing.pair_day(db, made)
    db.commit()
    return made


def test_every_change_counts_once_whether_the_row_was_written_or_only_what_hangs_on_it(db, day):
    row = source(db, day, "A")
    row.name = "another"
    changes.count(db, row)  # written, and said to have changed: one change
    assert row.version == 2
    changes.count(db, row)  # a stretch of its clock, say: the row itself is as it was
    assert row.version == 3
    (one,) = pairings.of_day(db, day.id)
    before = one.version
    changes.count(db, one)
    db.commit()
    db.expire_all()
    assert pairings.get(db, one.id).version == before + 1
    with pytest.raises(StaleError, match="Somebody else changed it meanwhile"):
        changes.compare(one, before, "it")


def test_what_workers_find_out_of_a_recording_is_no_change_of_a_persons(db, day):
    row = recordings.of_day(db, day.id)[0]
    row.unpaired = "no recorder was rolling"
    db.commit()
    assert row.version == 1
    changes.count(db, row)
    db.commit()
    assert row.version == 2


def test_a_change_that_came_in_past_every_lock_is_not_written_over(db, settings, day, monkeypatch):
    row = source(db, day, "A")
    db.execute(text("UPDATE source SET version = version + 1, name = 'theirs' WHERE id = :id"), {"id": row.id})
    row.name = "mine"
    with pytest.raises(StaleDataError):
        db.flush()
    db.rollback()
    # On a page that is told as any other change of somebody else's.
    app = create_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    real = days.get_source_for_change

    def slow(session, source_id, version):
        found = real(session, source_id, version)
        session.execute(text("UPDATE source SET version = version + 1 WHERE id = :id"), {"id": source_id})
        return found

    monkeypatch.setattr(days, "get_source_for_change", slow)
    sent = {"version": row.version, "name": "mine", "distance_m": "0", "delay_ms": "0"}
    answer = app.test_client().post(f"/sources/{row.id}", data=sent)
    assert answer.status_code == 409
    assert "Somebody else changed this meanwhile. Nothing of yours was applied" in answer.text
    db.expire_all()
    assert source(db, day, "A").name != "mine"
