"""Long lists by parts: whatever a request asks for, each row comes once, and a page keeps what it had."""

import re

import pytest
from sqlmodel import select
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import pairing
from vesk.core.heard import Heard
from vesk.core.kinds import Work
from vesk.core.sound.levels import SoundLevel
from vesk.jobs.tasks import tidy_cache
from vesk.media import cache
from vesk.store import progress
from vesk.store.tables import Day
from vesk.web import create_app
from vesk.web.shared.scrolled import FIRST, NEXT


@pytest.fixture
def client(settings):
    app = create_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    return app.test_client()


@pytest.fixture(scope="module")
def template(made_once):
    def make(db, _settings):
        files = {f"A/A001_{n:03}.mov": picture(f"{8 + n // 20:02}:{3 * (n % 20):02}:00:00") for n in range(150)}
        files |= {f"S1/{n}_01.wav": sound(f"{8 + n // 20:02}:{3 * (n % 20):02}:01:00") for n in range(150)}
        pairing.pair_day(db, paper_day(db, files))

    return made_once("scrolled", make)


@pytest.fixture
def day(db):
    return db.exec(select(Day)).one()


def ids(page):
    return re.findall(r'<tr id="row-(\d+-\d+)"', page)


def test_parts_follow_on_from_one_another_and_end(client, day):
    url = f"/days/{day.id}/"
    first = client.get(url).text
    found = ids(first)
    assert len(found) == FIRST
    assert f"{150 - FIRST} more rows" in " ".join(first.split())
    while part := ids(client.get(url, query_string={"from": len(found)}).text):
        assert len(part) in {NEXT, 150 - FIRST - NEXT}
        found += part
    assert len(found) == len(set(found)) == 150
    whole = client.get(url, query_string={"rows": 150}).text
    assert ids(whole) == found
    assert 'id="rest"' not in whole


@pytest.mark.parametrize("asked", ["-1", "nine", "1e9", "99999999999999999999", "", " 7", "٣"])
def test_a_part_that_cannot_be_is_the_page_itself_or_nothing(client, day, asked):
    answer = client.get(f"/days/{day.id}/", query_string={"from": asked})
    assert answer.status_code == 200
    assert len(ids(answer.text)) in {0, FIRST, NEXT}
    again = client.get(f"/days/{day.id}/", query_string={"rows": asked})
    assert FIRST <= len(ids(again.text)) <= 150


def test_what_is_filtered_is_counted_and_parted_for_itself(client, db, day):
    for row in (recording(db, day, f"A001_{n:03}.mov") for n in range(60)):
        row.aside = "MOS"
    db.commit()
    page = client.get(f"/days/{day.id}/", query_string={"show": "unchecked"}).text
    assert 'data-count="90"' in page
    rest = client.get(f"/days/{day.id}/", query_string={"show": "unchecked", "from": FIRST}).text
    assert len(ids(page) + ids(rest)) == 90


def test_an_entry_that_the_cache_let_go_is_computed_again_when_it_is_asked_for(client, db, settings, day, monkeypatch):
    row = recording(db, day, "0_01.wav")
    row.heard = Heard((SoundLevel(-3.0, -20.0, 0),) * 2)
    db.commit()
    entry = cache.entry_of(settings.cache, row.content)
    entry.folder.mkdir(parents=True)
    entry.done.write_bytes(bytes(1000))
    monkeypatch.setattr("vesk.jobs.tasks.for_work", lambda: settings)
    trimmed = []
    monkeypatch.setattr(cache, "trim", lambda folder, _most, keep: trimmed.append((folder, set(keep))) or (0, 0, 0))
    tidy_cache(0)
    assert trimmed == [(settings.cache, set())]  # nothing is worked on
    cache.forget(entry)
    answer = client.get(f"/media/{row.id}/peaks", query_string={"channel": 0, "level": 5, "start": 0, "count": 10})
    assert (answer.status_code, "not computed yet" in answer.text) == (422, True)
    assert progress.find(db, Work.LISTEN, row.id).state == "waiting"
    tidy_cache(0)
    assert trimmed[1] == (settings.cache, {row.content})  # what is being listened to stays
