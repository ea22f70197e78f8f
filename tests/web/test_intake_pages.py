"""Intake's pages on days made of paper: what they show, change, refuse, and how many recordings they bear."""

import io
import re

import pytest
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import pairing, reports
from vesk.actions.known import patterns_of
from vesk.core.kinds import ReportKind, Unusable
from vesk.store import days, journal, recordings
from vesk.store import reports as kept
from vesk.store.tables import Recording


@pytest.fixture
def day(db, settings):
    made = paper_day(
        db,
        {
            "A/A001_001.mov": picture("09:00:00:00", scene="7", take="1"),
            "A/A001_003.mov": picture("14:00:00:00"),
            "E/clip0001.mov": picture("", 600, channels=0),
            "E/clip0002.mov": picture("", 30, channels=0),
            "S1/7_01.wav": sound("08:59:58:00", scene="7", take="1"),
            "S1/<b>8_01.wav": sound("13:59:57:00"),
        },
    )
    pairing.pair_day(db, made)
    db.commit()
    return made


def together(client, db, day, names, **form):
    ids = [f"{row.id}:{row.version}" for row in (recording(db, day, name) for name in names)]
    db.rollback()  # so that what the page changes is read anew
    return client.post(f"/days/{day.id}/intake/together", data={"recording": ids, **form})


def test_several_recordings_are_changed_at_once_and_nothing_when_one_thing_is_wrong(client, db, day):
    for form, words in (
        ({"do": "nonsense"}, "Choose what to do"),
        ({"do": "put", "field": "size", "value": "3"}, "Choose which fact is put right"),
        ({"do": "put", "field": "timecode", "value": "99:00"}, "Write it like"),
        ({"do": "put", "field": "clock", "value": "sun"}, "A clock is one of"),
        ({"do": "aside", "value": "  "}, "Say why"),
        ({"do": "move", "to": "S1"}, "recorder"),
        ({"do": "apart"}, "one file"),
        ({"do": "run"}, "of several sources"),
    ):
        answer = together(client, db, day, ["A001_001.mov", "clip0001.mov"], **form)
        assert answer.status_code == 422, form
        assert words in answer.text
    assert together(client, db, day, [], do="put", field="scene", value="9").status_code == 422
    assert len(journal.of_day(db, day.id)) == 1  # the pairing, before
    answer = together(client, db, day, ["A001_001.mov", "A001_003.mov"], do="put", field="scene", value="12")
    assert "scene of 2 put right." in answer.text
    db.rollback()
    assert [recording(db, day, name).told.scene for name in ("A001_001.mov", "A001_003.mov")] == ["12", "12"]
    # The ledger and what is handed over follow.
    assert "12 / 1" in client.get(f"/days/{day.id}/").text
    assert "scene of 1 as read again" in together(client, db, day, ["A001_001.mov"], do="asread", field="scene").text


def test_files_are_taken_together_and_apart_on_the_page(client, db, day):
    answer = together(client, db, day, ["clip0001.mov", "clip0002.mov"], do="run")
    assert "clip0001-0002.mov is one recording now" in answer.text
    db.rollback()
    run = next(row for row in recordings.of_day(db, day.id) if row.merged)
    page = client.get(f"/recordings/{run.id}").text
    assert "Made of 2 files" in page
    assert "one after the other: by hand, test editor" in page
    part = client.get(f"/recordings/{recording(db, day, 'clip0002.mov').id}").text
    assert "which is paired, measured and corrected as one recording" in part
    assert client.post(f"/recordings/{run.id}/apart", data={"version": run.version}).status_code == 303
    refused = client.post(f"/recordings/{run.id}/apart", data={"version": run.version})
    assert refused.status_code == 409
    assert "It was taken apart by test editor" in refused.text


def test_a_name_that_is_markup_is_shown_and_does_nothing(client, day):
    for path in ("intake", "names", "reports", ""):
        text = client.get(f"/days/{day.id}/{path}").text
        assert "<b>8_01" not in text
    assert "&lt;b&gt;8_01.wav" in client.get(f"/days/{day.id}/intake").text


def test_patterns_are_tried_before_they_are_kept(client, db, day):
    url = f"/days/{day.id}/names"
    assert "4 of 6 names are read" in client.get(url).text or "names are read" in client.get(url).text
    tried = client.post(f"{url}/preview", data={"patterns": "clip{clip}\n{nonsense}"}).text
    assert "2 of 6 names are read" in tried
    assert "is nothing that a file name holds" in tried
    assert patterns_of(days.get_day(db, day.id))[0] == "{roll}_{clip}"
    wrong = client.post(url, data={"patterns": "{clip}{clip}", "version": "1"})
    assert wrong.status_code == 422
    assert "{clip}{clip}</textarea>" in wrong.text  # what was typed is still there
    assert "Saved" in client.post(url, data={"patterns": "clip{clip}", "version": "1"}).text
    late = client.post(url, data={"patterns": "{scene}", "version": "1"})
    assert (late.status_code, "clip{clip}</textarea>" in late.text) == (409, True)  # what is there now is shown
    db.expire_all()
    assert days.get_day(db, day.id).patterns == ["clip{clip}"]
    assert "Saved" in client.post(url, data={"do": "shipped", "patterns": "x", "version": "2"}).text
    db.expire_all()
    assert days.get_day(db, day.id).patterns == []


def test_a_report_is_sent_its_columns_named_and_left_out(client, db, day):
    url = f"/days/{day.id}/reports"
    assert "No report is taken up yet" in client.get(url).text
    assert "Choose a report first" in client.post(url, data={"kind": "sound"}).text
    bad = client.post(url, data={"kind": "sound", "report": (io.BytesIO(b"\x00\x01"), "r.csv")})
    assert bad.status_code == 422
    assert "r.csv: It holds zero bytes" in bad.text
    text = "Clip;Szene\n7_01.wav;7B\ngone.wav;8\n".encode("utf-16")
    page = client.post(url, data={"kind": "sound", "report": (io.BytesIO(text), "../../r.csv")}).text
    assert "No line of it names its columns" in page  # one known column is not enough to tell its head
    text = "Clip;Szene;Notes\n7_01.wav;7B;Größe\ngone.wav;8;\n".encode("utf-16")
    page = client.post(url, data={"kind": "sound", "report": (io.BytesIO(text), "../../r.csv")}).text
    assert "r.csv is taken up" in page
    assert "Größe" in page
    assert re.search(
        r"1 of 2 lines matched to a recording; 1 without a file; 1 recordings? not on it", " ".join(page.split())
    )
    (row,) = kept.of_day(db, day.id)
    assert row.name == "r.csv"
    form = {"version": row.version, "kind": "sound", "tag": "S1", "column-0": "file", "column-1": "scene"}
    page = client.post(f"/reports/{row.id}", data=form).text
    assert "scene 7B on the report, 7 in the file" in page
    assert client.post(f"/reports/{row.id}", data=form).status_code == 409  # saved by somebody meanwhile
    alike = {**form, "version": row.version + 1, "column-1": "file"}
    assert "named alike" in client.post(f"/reports/{row.id}", data=alike).text
    assert "7B on the report" in client.get(f"/days/{day.id}/intake").text
    assert "left out again" in client.post(f"/reports/{row.id}", data={"do": "remove", "version": row.version + 1}).text
    assert "7B on the report" not in client.get(f"/days/{day.id}/intake").text


def test_a_report_that_lies_beside_the_media_is_offered(client, db, settings, tmp_path):
    folder = settings.media_roots[0] / "day"
    (folder / "S1").mkdir(parents=True)
    (folder / "S1" / "sound.csv").write_text("file,scene\n7_01.wav,7\n", encoding="latin-1")
    (tmp_path / "secret.csv").write_text("file,scene\nx,1\n", encoding="utf-8")
    (folder / "away.csv").symlink_to(tmp_path / "secret.csv")
    day = paper_day(db, {"S1/7_01.wav": sound("08:59:58:00")}, str(folder))
    page = client.get(f"/days/{day.id}/reports").text
    assert "In the folder: <bdi>S1/sound.csv</bdi>" in page
    assert "away.csv" not in page
    assert client.post(f"/days/{day.id}/reports", data={"beside": "../../secret.csv"}).status_code == 422
    taken = client.post(f"/days/{day.id}/reports", data={"beside": "S1/sound.csv", "kind": "sound"}).text
    assert "S1/sound.csv is taken up" in taken
    assert "In the folder" not in taken


def test_a_source_has_a_page_of_its_own(client, db, day):
    row = source(db, day, "A")
    url = f"/sources/{row.id}/all"
    assert "A001_001.mov" in client.get(url).text
    for data, status, words in (
        ({"version": "old"}, 422, "out of date"),
        ({"version": 9, "tag": "A", "position": "0"}, 409, "Somebody else changed source A"),
        ({"version": 1, "tag": "E", "position": "0"}, 422, "another source already"),
        ({"version": 1, "tag": "A", "position": "many"}, 422, "a number up to 99"),
        ({"version": 1, "tag": "A", "position": "0", "rate": "17"}, 422, "frame rate"),
    ):
        answer = client.post(url, data=data)
        assert (answer.status_code, words in answer.text) == (status, True), data
    assert "K is saved" in client.post(url, data={"version": 1, "tag": "K", "position": "4", "rate": "24"}).text
    stretch = {"version": 2, "since": "13:40", "before": "15:00", "clock": "none"}
    page = client.post(f"/sources/{row.id}/stretch", data=stretch).text
    assert "K is trusted by its none in that stretch" in page
    assert "13:40:00:00 to 15:00:00:00" in page
    assert "another clock for 1 stretch" in client.get(f"/days/{day.id}/intake").text
    ended = re.search(r'name="end" value="(\d+)"', page)[1]
    assert (
        "as the rest of the day again"
        in client.post(f"/sources/{row.id}/stretch", data={"version": 3, "end": ended}).text
    )
    merged = client.post(f"/sources/{row.id}/merge", data={"version": 4, "into": "E"})
    assert merged.status_code == 303
    assert client.get(url).status_code == 404


def test_a_thousand_recordings_are_listed_whole_and_in_order(client, db, settings):
    files = {
        f"A/A{n // 100:03}_{n % 100:03}.mov": picture(f"{8 + n // 120:02}:{n % 60:02}:00:00") for n in range(1, 500)
    }
    files |= {f"S1/{n}_01.wav": sound(f"{8 + n // 120:02}:{n % 60:02}:02:00") for n in range(1, 500)}
    day = paper_day(db, files)
    text = "file,scene\n" + "".join(f"{n}_01.wav,{n}X\n" for n in range(1, 500))
    reports.take_up(db, settings, day, name="r.csv", text=text, kind=ReportKind.SOUND)
    db.commit()
    url = f"/days/{day.id}/intake?order=-start&show=source:S1"
    page, shown = client.get(url).text, 0
    assert 'data-count="499"' in page
    while (listed := len(re.findall(r'data-href="/recordings/(\d+)"', page))) > shown:  # as the page's script asks
        shown, more = listed, client.get(f"{url}&from={listed}").text
        assert "<table" not in more
        page += more
    assert shown == 499
    assert client.get(f"{url}&rows=300").text.count("data-href=") == 300  # a page that is laid anew keeps its rows
    starts = re.findall(r'<td class="tc">(\d\d:\d\d:\d\d:\d\d)', page)
    assert starts == sorted(starts, reverse=True)


def test_a_day_past_midnight_reads_on_across_it(client, db, settings):
    day = paper_day(
        db,
        {
            "A/A001_001.mov": picture("23:50:00:00"),
            "A/A001_002.mov": picture("00:10:00:00"),
            "S1/1_01.wav": sound("23:49:58:00"),
            "S1/1_02.wav": sound("00:09:58:00"),
        },
    )
    pairing.pair_day(db, day)
    db.commit()
    page = client.get(f"/days/{day.id}/").text
    rows = re.findall(r"A001_00\d", page.split('id="ledger"')[1])
    assert rows[0] == "A001_001"
    times = re.findall(r"\d\d:\d\d:\d\d(?=</text>)", page)
    assert times[0] == "23:49:58"


def test_a_folder_is_chosen_by_looking_below_what_may_be_read_and_nowhere_else(client, settings):
    root = settings.media_roots[0]
    for path in ("day 9/A/1.mov", "day 10/A/1.mov", "day 10/S/1.wav", "day 10/S/2.wav", "day 10/notes.txt"):
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).touch()
    (root / ".hidden").mkdir()
    (root / "out").symlink_to("/etc")
    top = client.get("/new").text
    assert str(root) in top
    inside = client.get("/new/folders", query_string={"at": str(root)}).text
    assert inside.index("day 9</a>") < inside.index("day 10</a>")  # as people count
    assert "1 movie, 2 sound files" in inside
    assert ".hidden" not in inside
    assert ">out<" not in inside
    chosen = client.get("/new/folders", query_string={"at": str(root / "day 10")}).text
    assert f'value="{root / "day 10"}"' in chosen
    for outside in ("/etc", str(root / "out"), str(root / "gone")):
        refused = client.get("/new/folders", query_string={"at": outside})
        assert refused.status_code == 200
        assert "passwd" not in refused.text
        assert 'role="alert"' in refused.text


def test_what_a_card_keeps_for_itself_is_one_line_on_intake_and_none_on_the_day(client, db, day):
    says = "it is neither a movie nor a sound file. It is left out."
    for n in range(60):
        path = f"A/CLIPINF/{n:05}.CPI"
        db.add(Recording(
            day_id=day.id, path=path, name=f"{n:05}.CPI", size=400, modified_ns=1, state=recordings.UNREADABLE,
            problem=f"{path}: {says}", unusable=Unusable.FOREIGN,
        ))  # fmt: skip
    db.commit()
    page = client.get(f"/days/{day.id}/intake").text
    assert page.count("CPI") == 0
    assert "A: 60 files are neither movies nor sound, and left out (60 .cpi)" in page
    assert "CPI" not in client.get(f"/days/{day.id}/").text
