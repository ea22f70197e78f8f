"""What is concluded of a day from its recordings together, without files or database: facts beside what counts."""

from fractions import Fraction

import pytest
from tests.paper_day import PAL, picture, sound

from vesk.core.clocks.choice import Period, Said
from vesk.core.day.known import know_day
from vesk.core.day.recording import Item
from vesk.core.heard import Heard, LtcHeard
from vesk.core.intake.reports import Entry, Report

HOUR = 3600


def item(path, facts, **more):
    return Item(path, path, path.split("/")[0], facts, **more)


def coded(start, frames=500):
    says = LtcHeard(Fraction(25), False, Fraction(start), "", 0, "", 1e-5, 0.0, 0.1, frames, 0, "")
    return Heard(ltc={0: says})


def known(*items, **more):
    return know_day(items, PAL, **more)


def test_the_read_value_stays_beside_what_a_person_says():
    one = item(
        "A/A001_001.mov",
        picture("09:00:00:00", scene="7"),
        put_right={"scene": "8", "timecode": "10:00:00:00"},
        put_by={"scene": "Ines", "timecode": "Odo"},
    )
    found = known(one).recordings[one.key]
    assert (found.values["scene"].value, found.values["scene"].origin, found.values["scene"].read) == (
        "8",
        "put right by Ines",
        "7",
    )
    assert found.start == 10 * HOUR
    assert found.values["timecode"].read == "09:00:00:00"


def test_a_source_goes_by_ltc_where_most_of_it_carries_some():
    items = [
        item("C/1.mov", picture("08:00:00:00"), heard=coded(9 * HOUR)),
        item("C/2.mov", picture("08:30:00:00"), heard=coded(Fraction(19 * HOUR, 2))),
        item("C/3.mov", picture("09:00:00:00")),
    ]
    found = known(*items)
    assert found.clocks["C"].clock == "LTC"
    assert [found.recordings[one.key].start for one in items] == [9 * HOUR, Fraction(19 * HOUR, 2), None]
    kinds = {(one.kind, one.about) for one in found.oddities}
    assert ("header and LTC disagree", ("C/1.mov",)) in kinds
    # A person's word for the source, for a stretch, and for one file: the nearest counts.
    said = {"C": Said("header", (Period(Fraction(HOUR * 8), Fraction(HOUR * 8 + 900), "LTC"),))}
    found = known(*items, said=said)
    assert [found.recordings[one.key].clock for one in items] == ["LTC", "header", "header"]
    typed = item("C/1.mov", picture("08:00:00:00"), heard=coded(9 * HOUR), put_right={"timecode": "11:00:00:00"})
    assert known(typed, *items[1:]).recordings["C/1.mov"].start == 11 * HOUR


def test_a_stretch_is_told_by_the_clock_a_recording_has_else():
    one = item("C/1.mov", picture("08:00:00:00"), heard=coded(9 * HOUR))
    at_nine = Said("LTC", (Period(Fraction(9 * HOUR), Fraction(10 * HOUR), "header"),))
    assert known(one, said={"C": at_nine}).recordings[one.key].start == 8 * HOUR
    at_eight = Said("LTC", (Period(Fraction(8 * HOUR), Fraction(9 * HOUR), "header"),))
    assert known(one, said={"C": at_eight}).recordings[one.key].start == 9 * HOUR


def test_of_several_coded_channels_the_one_with_most_frames_counts():
    heard = coded(9 * HOUR, frames=10)
    heard.ltc[1] = coded(10 * HOUR, frames=400).ltc[0]
    one = item("C/1.mov", picture("08:00:00:00"), heard=heard)
    assert known(one).recordings[one.key].start == 10 * HOUR


def test_a_copy_is_set_aside_unless_a_person_wants_it():
    first, copy = (item(path, sound("09:00:00:00"), content="same") for path in ("S1/7_01.wav", "S1/7_01 copy.wav"))
    found = known(first, copy)
    assert found.recordings[copy.key].aside == "the same file as S1/7_01.wav"
    assert found.recordings[first.key].aside == ""
    wanted = item("S1/7_01 copy.wav", sound("09:00:00:00"), content="same", put_right={"aside": ""})
    assert known(first, wanted).recordings[wanted.key].aside == ""
    # Of what a person set aside nothing is a copy; nor is what a person decided about.
    unwanted = item("S1/7_01.wav", sound("09:00:00:00"), content="same", put_right={"aside": "hum"})
    found = known(unwanted, copy)
    assert [found.recordings[one.key].aside for one in (unwanted, copy)] == ["hum", ""]
    assert "doubled file" not in {one.kind for one in found.oddities}
    assert known(first, copy, decided={copy.key}).recordings[copy.key].aside == ""


def test_a_picture_brought_back_is_no_longer_off_speed():
    slow = picture("09:00:00:00", 20, channels=0, sample_rate=0, capture_fps=Fraction(100))
    one = item("D/D001_001.mov", slow)
    assert known(one).recordings[one.key].aside.startswith("off-speed")
    back = item("D/D001_001.mov", slow, put_right={"aside": ""})
    found = known(back)
    assert (found.recordings[back.key].aside, found.off_speed) == ("", {})


def test_a_run_is_read_by_its_first_file_and_counts_all_of_them():
    members = tuple(item(f"A/A001_{n:03}.mov", picture("09:00:00:00", 10)) for n in (1, 2))
    whole = item("A/A001_001-002.mov", picture("09:00:00:00", 20), members=members, merged="run")
    other = item("A/A001_004.mov", picture("12:00:00:00"))
    found = known(whole, other)
    assert found.recordings[whole.key].tokens == {"roll": "A001", "clip": "001"}
    missing = [one.says for one in found.oddities if one.kind == "number missing"]
    assert missing == ["A: roll A001 lacks number 003"]


@pytest.mark.parametrize(
    ("facts", "says", "scene", "origin"),
    [
        (sound("09:00:00:00", scene="7"), {"scene": "8"}, "7", "iXML"),
        (sound("09:00:00:00"), {"scene": "8"}, "8", "sound report r.csv, line 4"),
        (sound("09:00:00:00"), {}, "7", "file name"),
    ],
)
def test_file_report_and_name_in_this_order(facts, says, scene, origin):
    one = item("S1/7_01.wav", facts)
    report = Report("r.csv", "sound", "", (Entry(4, {"file": "7_01.wav", "circled": "x", **says}),))
    value = known(one, reports=[report]).recordings[one.key].values
    assert (value["scene"].value, value["scene"].origin) == (scene, origin)
    assert value["circled"].value == "yes"


def test_two_files_of_one_device_at_once_are_a_conflict_and_a_report_of_another_kind_is_not_laid_beside():
    items = [item("S1/7_01.wav", sound("09:00:00:00")), item("S1/8_01.wav", sound("09:00:10:00"))]
    camera = Report("c.csv", "camera", "", (Entry(1, {"file": "A001_001.mov"}),))
    found = known(*items, reports=[camera])
    (conflict,) = found.conflicts
    assert (conflict.first, conflict.second, conflict.shared) == ("S1/7_01.wav", "S1/8_01.wav", 14)
    kinds = [one.kind for one in found.oddities]
    assert kinds.count("on the report, no file") == 1
    assert "file, not on the report" not in kinds
