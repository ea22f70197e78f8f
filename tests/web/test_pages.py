"""Pages without a browser: what they answer, refuse and hide."""

import io
import re
import shutil

import numpy as np
import pytest
import soundfile
from tests.conftest import name_ferry
from werkzeug.wsgi import FileWrapper

from vesk.actions import correct, gathering, intake, measuring, pairing
from vesk.store import pairings, recordings
from vesk.web import create_app


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    folder = tmp_path / "media"
    shutil.copytree(ferry.folder, folder, ignore=shutil.ignore_patterns("B004*", "3[2346]*", "A006_00[34567]*"))
    named = name_ferry(db, settings, folder)
    intake.take_in(db, settings, named)
    for pid in pairing.pair_day(db, named):
        measuring.measure_pairing(db, settings, pid)
    db.commit()
    found = recordings.of_day(db, named.id)
    assert pairings.of_day(db, named.id), [(row.path, row.state, row.problem, row.aside) for row in found]
    return named


@pytest.fixture
def now(db, day):
    return gathering.of_day(db, day)[0]


def test_an_empty_vesk_asks_for_its_first_day(client, settings):
    settings.media_roots[0].mkdir()
    answer = client.get("/", follow_redirects=True)
    assert "name the first shoot day" in answer.text
    form = {"production": "The Lantern Ferry", "number": "6", "shot_on": "2027-03-18", "rate": "29.97 DF"}
    refused = client.post("/new", data={**form, "folder": "/etc"})
    assert refused.status_code == 422
    assert "outside the folders Vesk may read" in refused.text
    assert 'value="The Lantern Ferry"' in refused.text  # nothing typed is lost
    for field, value, words in (
        ("number", "six", "is a number"),
        ("shot_on", "18.3.", "written like"),
        ("rate", "17", "not a frame rate"),
    ):
        bad = client.post("/new", data={**form, "folder": str(settings.media_roots[0]), field: value})
        assert words in bad.text
    made = client.post("/new", data={**form, "folder": str(settings.media_roots[0])})
    assert made.status_code == 303
    assert "taking the folder in" in client.get(made.location).text


def test_every_page_of_a_day_answers(client, day, now):
    for path in ("", "intake", "turnover", "journal", "clocks", "reports", "elsewhere", "joining/"):
        answer = client.get(f"/days/{day.id}/{path}")
        assert answer.status_code == 200, path
        assert re.search(r'id="find" value=""', " ".join(answer.text.split())), path  # nothing else is sought there
    assert "2 camera takes: 0 hold, 2 need you" in client.get(f"/days/{day.id}/").text
    bench = client.get(f"/days/{day.id}/bench", follow_redirects=True).text
    assert "0.31 frame late" in bench
    assert "A slip of −12." in bench
    assert client.get("/days/999/").status_code == 404
    assert "There is no shoot day number 999" in client.get("/days/999/").text
    assert client.get(f"/days/{day.id}/?show=unpaired").text.count("<tr id=") == 1  # the wild track


def test_htmx_gets_a_part_and_a_browser_the_whole(client, now):
    url = f"/bench/{now.pairing.id}"
    part = client.get(url, headers={"HX-Request-Type": "partial"}).text
    assert part.lstrip().startswith("<section")
    assert "<!doctype html>" in client.get(url).text


def test_a_stale_change_is_shown_and_refused(client, db, settings, now):
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    answer = client.post(f"/bench/{now.pairing.id}/own", data={"version": now.pairing.version - 1, "slip_frames": "3"})
    assert answer.status_code == 409
    assert "Somebody else changed this pairing" in answer.text
    words = client.post(f"/bench/{now.pairing.id}/own", data={"version": now.pairing.version, "slip_frames": "a lot"})
    assert words.status_code == 422
    assert "is not a number of frames" in words.text


def test_a_change_without_its_token_is_refused(settings, now):
    guarded = create_app(settings).test_client()
    answer = guarded.post(f"/bench/{now.pairing.id}/check", data={"version": now.pairing.version})
    assert answer.status_code == 400
    assert "nothing was changed" in answer.text


def test_steps_of_a_slip_are_exact(client, db, now):
    form = {"version": now.pairing.version, "frames": "1", "tenths": "-2", "samples": "3", "seconds": "0"}
    client.post(f"/bench/{now.pairing.id}/slip", data=form)
    db.expire_all()
    slip = gathering.of_pairing(db, now.pairing.id).as_corrected.slip
    assert slip * 48_000 == 1920 - 2 * 192 + 3


def test_several_takes_are_corrected_together_and_what_fails_is_said(client, db, settings, day):
    both = gathering.of_day(db, day)
    correct.take_proposal(db, settings, both[0].pairing.id, version=both[0].pairing.version)
    db.commit()
    chosen = [f"{both[0].pairing.id}:1", f"{both[1].pairing.id}:{both[1].pairing.version}"]
    answer = client.post(f"/days/{day.id}/together", data={"do": "proposal", "pairing": chosen})
    assert "1 corrected as proposed" in answer.text
    assert "Somebody else changed" in answer.text
    db.expire_all()
    assert [one.state for one in gathering.of_day(db, day)] == ["corrected", "corrected"]


def test_what_is_heard_is_laid_as_corrected(client, db, settings, now):
    """One in each ear: after the proposal, the clap of both falls together to a fraction of a millisecond."""

    def ears():
        url = f"/media/listen/{now.pairing.id}.wav?at_s=2.2&span_s=0.6&mode=split"
        sound, rate = soundfile.read(io.BytesIO(client.get(url).data))
        assert sound.shape == (28_800, 2)
        onset = [int(np.argmax(np.abs(ear) > 0.35 * np.abs(ear).max())) for ear in sound.T]
        return (onset[1] - onset[0]) / rate

    assert ears() == pytest.approx(0.31 / 25, abs=0.001)  # production late
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    assert abs(ears()) < 0.0005


def test_waveforms_come_in_ranges_and_only_once(client, now):
    url = f"/media/{now.sound.id}/peaks?level=8&start=-10&count=20&channel=1"
    first = client.get(url)
    assert len(first.data) == 20 * 4
    assert not np.frombuffer(first.data[:40], "<i2").any()  # before the recording: silence
    assert client.get(url, headers={"If-None-Match": first.headers["ETag"]}).status_code == 304
    assert len(client.get(f"/media/{now.sound.id}/peaks?count=999999999").data) == (1 << 14) * 4
    assert client.get(f"/media/{now.sound.id}/peaks?count=many").status_code == 422
    frame = client.get(f"/media/{now.picture.id}/frame/57.jpg")
    assert frame.data[:2] == b"\xff\xd8"
    frame.close()
    assert client.get(f"/media/{now.picture.id}/frame/99999.jpg").status_code == 422


def test_a_turnover_needs_something_checked_and_gives_only_its_own_files(client, day):
    answer = client.post(f"/days/{day.id}/turnover")
    assert answer.status_code == 422
    assert "No take is checked yet" in answer.text
    assert client.get("/turnover/1/../../etc/passwd").status_code == 404


def test_no_page_asks_anything_of_another_machine(client, day, now):
    for path in (f"/days/{day.id}/", f"/days/{day.id}/intake", f"/bench/{now.pairing.id}"):
        answer = client.get(path)
        assert not re.findall(r'(?:src|href|action)="(?:https?:)?//', answer.text)
        assert "default-src 'none'" in answer.headers["Content-Security-Policy"]


def test_a_small_file_is_closed_before_it_is_sent(app):
    opened = []

    class Given(FileWrapper):
        def __init__(self, file, size=8192):
            super().__init__(file, size)
            opened.append(file)

    ask = app.test_client().get
    for headers, size in (({}, None), ({"Range": "bytes=2-5"}, 4)):
        answer = ask(
            "/static/icon.svg", environ_overrides={"wsgi.file_wrapper": Given}, headers=headers, buffered=False
        )
        assert all(file.closed for file in opened), "whoever lets go of it now leaves it open"
        assert len(answer.data) == (size or answer.content_length) > 0
        tag = answer.headers["ETag"]
    again = ask("/static/icon.svg", environ_overrides={"wsgi.file_wrapper": Given}, headers={"If-None-Match": tag})
    assert (again.status_code, again.data, len(opened)) == (304, b"", 3)
    assert all(file.closed for file in opened)
