"""What was made elsewhere is read back, shown beside what is known here, and counts only where a person says so."""

import csv
import io
import json
from fractions import Fraction

import pytest
from tests.core.test_handover import NINE, PAL, lay, picture, sound
from tests.paper_day import paper_day
from tests.paper_day import picture as picture_facts
from tests.paper_day import sound as sound_facts
from tests.web.test_deciding import shown, statuses

from vesk.actions import pairing
from vesk.core.handover.edl import edit_lists
from vesk.core.handover.elsewhere import Here, There, belongs, read_edit_list
from vesk.core.handover.timeline import Joined
from vesk.core.kinds import PICTURE, SOUND
from vesk.core.timemap import TimeMap
from vesk.media.otio_file import write_otio
from vesk.store import journal


@pytest.fixture
def day(db):
    """A picture and a sound that clocks pair, and a sound hours away that nothing pairs with it."""
    files = {
        "A/p.mov": picture_facts("09:00:00:00"), "S1/s.wav": sound_facts("08:59:58:00"),
        "S2/t.wav": sound_facts("14:00:00:00", 40),
    }  # fmt: skip
    made = paper_day(db, files)
    pairing.pair_day(db, made)
    db.commit()
    return made


def sent(client, day, name, data):
    form = {"made": (io.BytesIO(data), name)}
    return client.post(f"/days/{day.id}/elsewhere", data=form, content_type="multipart/form-data")


def timeline(tmp_path, off=Fraction(0)):
    """Return a timeline as somebody else would lay it: s as the clocks have it but for `off`, t under the picture."""
    media = [picture("p", NINE), sound("s", NINE - 2, 24), sound("t", NINE + 5 * 3600, 40, tag="S2")]
    joined = [
        Joined("p", "s", TimeMap(Fraction(-2) + off), True), Joined("p", "t", TimeMap(Fraction(-7)), True),
        Joined("p", "x", TimeMap(Fraction(0)), True),
    ]  # fmt: skip
    made, _ = lay(media, joined)
    write_otio(made, tmp_path / "cut.otio", originals="../media")
    return (tmp_path / "cut.otio").read_bytes()


def test_what_lies_as_here_is_told_from_what_does_not_and_from_what_nobody_paired(client, db, day, tmp_path):
    page = shown(sent(client, day, "cut.otio", timeline(tmp_path)))
    assert "2 pairs lie together in cut.otio, 1 otherwise than here" in page
    assert "lies as here" in page
    assert "not paired here" in page
    assert [one.sound.name for one in statuses(db, day, "A")] == ["s.wav"]  # read is not taken
    late = shown(sent(client, day, "cut.otio", timeline(tmp_path, Fraction(4, 25))))
    assert "here its sound lies 4.00 frames early against there" in late


def test_what_is_ticked_belongs_together_and_may_lie_as_it_did_there(client, db, day, tmp_path):
    page = sent(client, day, "cut.otio", timeline(tmp_path)).text
    key = page.split('name="pair" value="')[1].split('"')[0]
    where = f"/days/{day.id}/elsewhere/take"
    assert "Nothing is selected" in shown(client.post(where, data={"do": "belong"}))
    for wrong in ("1:2:3/0", "x", "999999:1:", key.replace(":", ":9", 1)):
        refused = client.post(where, data={"pair": wrong, "do": "laid"})
        assert 'class="problem"' in refused.text
    said = shown(client.post(where, data={"pair": key, "do": "laid"}))
    assert "1 pair laid as there; they are measured now." in said
    other = next(one for one in statuses(db, day, "A") if one.sound.name == "t.wav")
    assert float(other.laid.offset) == pytest.approx(-7, abs=1 / 48_000)
    assert other.is_joined
    assert any("t.wav" in one.what for one in journal.of_day(db, day.id))


def test_an_edit_list_and_a_report_say_the_same(client, db, day):
    media = [picture("p", NINE), sound("s", NINE - 2, 24), sound("t", NINE - 1, 40, tag="S2")]
    made, _ = lay(media, [Joined("p", "s", TimeMap(Fraction(-2)), True), Joined("p", "t", TimeMap(Fraction(-1)), True)])
    whole = "".join(edit_lists(made, track)[0] for track in made.tracks)
    page = shown(sent(client, day, "CUT.EDL", whole.encode()))
    assert "2 pairs lie together" in page
    out = io.StringIO()
    table = csv.DictWriter(out, ["picture", "sound"])
    table.writeheader()
    table.writerow({"picture": "A/p.mov", "sound": "S1/s.wav + S2/t.wav"})
    page = shown(sent(client, day, "report.csv", out.getvalue().encode()))
    assert "paired here, too" in page
    assert "not paired here" in page


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("cut.otio", b"{}", "cut.otio: it holds no timeline"),
        ("cut.otio", json.dumps({"OTIO_SCHEMA": "Timeline.1"}).encode(), "cut.otio: it is no timeline"),
        ("cut.edl", b"TITLE: nothing\n", "no event of an edit list"),
        ("cut.edl", b"001 AX V C 99:99:99:99 00:00:00:00 00:00:00:00 00:00:00:00", "no event of an edit list"),
        ("report.csv", b"a,b\n1,2\n", "no columns"),
        ("cut.xml", b"<x/>", "is no timeline"),
        ("", b"", "is no timeline"),
        ("../../etc/passwd.otio", b"\xff\xfe\x00", "passwd.otio: it is no timeline"),
    ],
)
def test_what_cannot_be_read_is_said_and_nothing_is_kept(client, day, name, data, words):
    page = shown(sent(client, day, name, data)).replace("&#39;", "'")
    assert words in page


def test_a_name_that_two_bear_is_the_one_whose_timecode_holds_it():
    files = [
        Here("1", "clip.mov", PICTURE, NINE, Fraction(20)), Here("2", "clip.mov", PICTURE, NINE + 100, Fraction(20)),
        Here("3", "s.wav", SOUND, NINE + 100, Fraction(20)),
    ]  # fmt: skip
    clips = [
        There("clip.mov", Fraction(0), Fraction(10), NINE + 105, picture=True),
        There("s.wav", Fraction(0), Fraction(10), NINE + 104, picture=False),
        There("clip.mov", Fraction(50), Fraction(10), NINE + 999, picture=True),
    ]  # fmt: skip
    (one,), strangers = belongs(clips, files, Fraction(86_400))
    assert (one.picture, one.sound, one.offset) == ("2", "3", 1)
    assert strangers == ["clip.mov"]


def test_a_file_of_a_run_is_its_run_s_and_lies_where_it_begins_in_it():
    files = [
        Here("9", "c1.mov", PICTURE, None, Fraction(10)),
        Here("9", "c2.mov", PICTURE, None, Fraction(10), begins=Fraction(10)),
        Here("3", "s.wav", SOUND, NINE, Fraction(60)),
    ]  # fmt: skip
    clips = [
        There("c2.mov", Fraction(20), Fraction(10), Fraction(0), picture=True),
        There("s.wav", Fraction(15), Fraction(30), NINE + 5, picture=False),
    ]  # fmt: skip
    (one,), strangers = belongs(clips, files, Fraction(86_400))
    assert (one.picture, one.sound, one.offset, strangers) == (
        "9",
        "3",
        0,
        [],
    )  # the run begins at 10, so does its sound


@pytest.mark.parametrize("drop", [True, False])
def test_an_event_over_midnight_and_with_a_sound_channel_is_read(drop):
    mark = ";" if drop else ":"
    text = (
        f"FCM: {'DROP FRAME' if drop else 'NON-DROP FRAME'}\n"
        f"000001  A001  V  C  23:59:59{mark}00 00:00:01{mark}00 23:59:59{mark}00 00:00:01{mark}00\n"
        "* FROM CLIP NAME: a b.mov\n"
        f"000002  S001  AA/V  C  01:00:00{mark}00 01:00:01{mark}00 01:00:00{mark}00 01:00:01{mark}00\n"
    )
    found = read_edit_list(text, Fraction(30000, 1001) if drop else PAL)
    assert [(one.name, one.picture) for one in found] == [("a b.mov", True), ("S001", True), ("S001", False)]
    assert found[0].takes == pytest.approx(2, abs=0.003)
