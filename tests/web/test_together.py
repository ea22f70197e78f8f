"""Several people at one day: who else is here and where; both sides of a change that came too late; the journal."""

from dataclasses import replace
from fractions import Fraction

import pytest
from sqlmodel import select
from tests.paper_day import paper_day, picture, sound

from vesk.actions import correct, pairing
from vesk.store import journal, pairings, presence
from vesk.store.columns import now


@pytest.fixture
def day(db, settings):
    made = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")})
    pairing.pair_day(db, made)
    db.commit()
    return made


def test_who_else_is_here_and_on_which_take_until_they_leave(app, db, day):
    (row,) = pairings.of_day(db, day.id)
    ida, jon = app.test_client(), app.test_client()
    for client, name in ((ida, "Ida"), (jon, "Jon")):
        client.post("/who", data={"name": name})

    def beat(client, tab, page, about=""):
        return client.get(f"/days/{day.id}/progress", query_string={"tab": tab, "page": page, "about": about}).text

    assert "also here" not in beat(ida, "tab-of-ida", "Day")
    said = beat(jon, "tab-of-jon", "Bench", row.picture_id)
    assert "<b>Ida</b>" in said
    assert "a.mov" not in said
    said = beat(ida, "tab-of-ida", "Day")
    assert "<b>Jon</b> on a.mov (Bench)" in said
    assert f'data-at="{row.picture_id}"' in said
    assert "on this take too" in beat(ida, "tab-of-ida", "Bench", row.picture_id)
    jon.post(f"/days/{day.id}/leave", data={"tab": "tab-of-jon"})
    assert "Jon" not in beat(ida, "tab-of-ida", "Day")
    beat(jon, "tab-of-jon", "Day")
    left = db.get(presence.Presence, "tab-of-jon")
    left.seen_at = now().replace(year=2020)
    db.commit()
    assert "Jon" not in beat(ida, "tab-of-ida", "Day")
    presence.forget(db)
    db.commit()
    assert len(db.exec(select(presence.Presence)).all()) == 1
    for tab in ("x", "<script>", "x" * 99):
        assert "also here" not in beat(jon, tab, "Day")
    assert beat(jon, "tab-of-jon", "Day", "9" * 30)


def test_a_change_that_came_too_late_shows_both_sides(client, db, settings, day):
    (row,) = pairings.of_day(db, day.id)
    seen = row.version
    ida = replace(settings, person="Ida")
    correct.set_own(db, ida, row.id, version=seen, slip=Fraction(2, 25))
    db.commit()
    answer = client.post(f"/bench/{row.id}/own", data={"version": seen, "slip_frames": "3.5", "ppm": ""})
    assert answer.status_code == 409
    assert "Nothing of yours was applied" in answer.text
    assert "Theirs: a.mov with a.wav: slip of +2.000 f (+80.00 ms) (Ida, " in answer.text
    assert "Yours, not applied: slip frames 3.5." in answer.text


def test_the_journal_is_filtered_undone_and_taken_away_as_a_table(client, db, settings, day):
    (row,) = pairings.of_day(db, day.id)
    correct.set_own(db, replace(settings, person="=Ida"), row.id, version=row.version, slip=Fraction(2, 25))
    db.commit()
    db.refresh(row)
    correct.set_aside(db, settings, row.id, version=row.version, reason="wild")
    db.commit()
    page = client.get(f"/days/{day.id}/journal", query_string={"by": "=Ida"}).text
    assert ("slip of +2.000 f" in page, "set aside (wild)" in page) == (True, False)
    assert "Nothing like that" in client.get(f"/days/{day.id}/journal?take=zzz").text
    assert "set aside (wild)" in client.get(f"/days/{day.id}/journal?device=S1&take=a.mov").text
    lines = client.get(f"/days/{day.id}/journal.csv").text.splitlines()
    assert lines[0] == "when,who,what"
    assert any(",'=Ida,a.mov with a.wav: slip" in line for line in lines)
    assert len(client.get(f"/days/{day.id}/journal.csv?by=%3DIda").text.splitlines()) == 2
    aside, slipped = journal.of_day(db, day.id)[:2]
    db.rollback()
    answer = client.post(f"/days/{day.id}/journal/{aside.id}/undo?by=test+editor")
    assert (answer.status_code, "Undone: a.mov with a.wav: set aside" in answer.text) == (200, True)
    assert client.post(f"/days/{day.id}/journal/{aside.id}/undo").status_code == 422
    assert client.post(f"/days/{day.id}/journal/{slipped.id}/undo").status_code == 200
    assert client.post(f"/days/{day.id}/journal/999/undo").status_code == 404
    db.expire_all()
    assert pairings.standing_corrections(db, [row.id]) == {}
    assert pairings.get(db, row.id).state == "proposed"
