"""Search over all days, and home: quick lists over many days, each line true."""

import re
from dataclasses import replace
from importlib import import_module

import pytest
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import brief, correct, pairing
from vesk.core.told import Told
from vesk.store import finding, pairings


@pytest.fixture
def two_days(db):
    made = []
    for scene, number in (("31A", 9), ("40", 10)):
        day = paper_day(db, {
            f"A/A{number}_C001.mov": picture("09:00:00:00"), f"S1/{scene}_02.wav": sound("08:59:58:00"),
            "S1/100%_x.wav": sound("10:00:00:00"),
        })  # fmt: skip
        day.number = number
        pairing.pair_day(db, day)
        for row in day_rows(db, day, f"A{number}_C001.mov", f"{scene}_02.wav"):
            row.told = Told(scene=scene, take="2")
        made.append(day)
    db.commit()
    return made


def day_rows(db, day, *names):
    return [recording(db, day, name) for name in names]


def test_every_word_is_found_in_any_order_over_all_days(client, db, two_days):
    def names(words):
        return sorted(one.name for one in finding.find(db, words)[0])

    assert names("31A") == ["31A_02.wav", "A9_C001.mov"]
    assert names("2 31a take s1") == []
    assert names("s1 take 2 scene 31a") == ["31A_02.wav"]
    assert names("c001") == ["A10_C001.mov", "A9_C001.mov"]
    assert names("c001 day 10") == ["A10_C001.mov"]
    assert names("scene 3") == []  # a figure after its word is whole
    assert names("take 2 mov") == ["A10_C001.mov", "A9_C001.mov"]
    assert names("100%_x") == ["100%_x.wav", "100%_x.wav"]
    assert names("1__") == []
    assert names("%") == names("100%")
    assert finding.find(db, "   ") == ([], 0)
    assert finding.find(db, "wav", most=1)[1] == 4
    page = client.get("/find", query_string={"words": "31A s1"}).text
    assert "1 recording of all days" in page
    assert re.search(r'href="/bench/\d+">A9_C001.mov</a>', page)
    assert "Nothing is called that" in client.get("/find?words=zzz").text
    assert client.get("/find").status_code == 200
    assert client.get("/find", query_string={"words": "' OR 1=1 --"}).status_code == 200


def test_home_reads_no_day_of_which_nothing_changed_and_each_line_is_true(client, db, settings, two_days, monkeypatch):
    first, second = two_days
    page = client.get("/home").text
    assert page.count("1 camera take") == 2
    told = brief.of_days(db)
    assert {one.is_fresh for one in told.values()} == {True}
    real, reckoned = brief.reckon, []
    monkeypatch.setattr(brief, "reckon", lambda session, number: reckoned.append(number) or real(session, number))
    client.get("/home")
    assert reckoned == []
    row = pairings.of_day(db, second.id)[0]
    correct.set_aside(db, replace(settings, person="Ida"), row.id, version=row.version, reason="wild")
    db.commit()
    monkeypatch.setattr(import_module("vesk.web.home.views"), "_FEW", 1)
    page = client.get("/home").text
    assert (reckoned, page.count('hx-trigger="load"')) == ([], 1)
    line = client.get(f"/home/days/{second.id}").text
    assert (reckoned, "hx-trigger" in line) == ([second.id], False)
    assert client.get("/home").text.count('hx-trigger="load"') == 0
    assert client.get("/home/days/999").status_code == 404
    assert client.get("/").headers["Location"] in {f"/days/{first.id}/", f"/days/{second.id}/"}
