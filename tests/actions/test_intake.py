"""A day taken in that is not clean: LTC, off-speed, copies, a machine without a clock; and what a person says of it."""

import os
import shutil
from dataclasses import replace
from fractions import Fraction

import pytest
from tests.conftest import name_ferry, shown

from vesk.actions import clocks, facts, gathering, intake, measuring, merging, oddities, pairing, sources
from vesk.actions.known import known_of_day
from vesk.actions.locating import located
from vesk.core.errors import RefusedError, StaleError
from vesk.dailies import delivering
from vesk.media import cache
from vesk.media.probe import EDITION
from vesk.store import days, journal, overrides, pairings, recordings
from vesk.web import create_app


@pytest.fixture
def day(db, settings, afternoon, tmp_path):
    """Return the afternoon without its long takes, taken in, listened to and paired."""
    folder = tmp_path / "media"
    shutil.copytree(
        afternoon.folder, folder, copy_function=os.link, ignore=shutil.ignore_patterns("A006_010*", "STE-004*")
    )
    named = name_ferry(db, settings, folder)
    intake.take_in(db, settings, named)
    for _ in range(2):  # files by themselves, then what they are together
        for row in recordings.ready_of_day(db, named.id):
            measuring.listen(db, settings, row.id)
        merging.merge_day(db, settings, named)
    pairing.pair_day(db, named)
    db.commit()
    return named


def by_name(db, day):
    return {row.name: row for row in recordings.of_day(db, day.id)}


def source(db, day, tag):
    return next(one for one in days.sources(db, day.id) if one.tag == tag)


def test_timecode_on_a_sound_channel_is_trusted_over_a_wrong_header(db, day):
    known = known_of_day(db, day)
    row = by_name(db, day)["C002_001.mov"]
    one = known.recordings[str(row.id)]
    assert (known.clocks["C"].clock, one.clock, one.label) == ("LTC", "LTC", "13:52:10:00")
    assert one.values["timecode"].value == "12:50:06:13"  # what its header says stays beside it
    assert row.start == pytest.approx(Fraction(13 * 3600 + 52 * 60 + 10), abs=0.021)
    assert row.heard.ltc[0].ppm == pytest.approx(11.0, abs=0.02)
    assert {p.sound_id for p in pairings.of_day(db, day.id) if p.picture_id == row.id} == {
        by_name(db, day)["37_01.wav"].id
    }


def test_its_channel_is_kept_out_of_matching(db, settings, day):
    row = by_name(db, day)["C002_001.mov"]
    place = located(db, settings, day, row)
    assert cache.matching_channels(place.facts, place.entry) == (1,)
    (pid,) = [p.id for p in pairings.of_day(db, day.id) if p.picture_id == row.id]
    measuring.measure_pairing(db, settings, pid)
    now = gathering.of_pairing(db, pid)
    assert now.found.picture_channel == 1
    assert now.verdict.cause == "whole-frame offset"  # its sound is a frame early on its picture
    assert "C by its LTC, S1 by its header" in {item.says for item in now.evidence}


def test_what_is_odd_is_told_of_the_right_files(db, day):
    found = {(one.kind, tuple(one.about)) for one in known_of_day(db, day).oddities}
    rows = {name: (str(row.id),) for name, row in by_name(db, day).items()}
    for kind, name in [
        ("header and LTC disagree", "C002_001.mov"),
        ("LTC leaks", "C002_002.mov"),
        ("doubled file", "37_02 copy.wav"),
        ("no timecode", "clip0017-0019.mov"),
        ("off-speed picture", "D001_001.mov"),
        ("off-speed picture", "D001_003.mov"),
    ]:
        assert (kind, rows[name]) in found, kind
    kinds = {kind for kind, _ in found}
    assert {"empty file", "cannot be read"} <= kinds
    assert "clock off by hours" not in kinds
    aside = {row.name: row.aside for row in by_name(db, day).values() if row.aside}
    assert set(aside) == {"D001_001.mov", "D001_002.mov", "D001_003.mov", "37_02 copy.wav"}
    assert "4 times slowed" in aside["D001_001.mov"]


def test_a_camera_without_a_clock_finds_its_sound(db, settings, day, afternoon, tmp_path):
    (row,) = [one for one in pairing.to_search(db, day) if one.start is None]
    assert row.name == "clip0017-0019.mov"
    (made,) = pairing.pair_by_sound(db, settings, row.id, lambda _done, _total: True)
    true = afternoon.pair("clip0017.mov", "39_01.wav")
    now = gathering.of_pairing(db, made.id)
    assert now.sound.name == "39_01.wav"
    assert now.found.line.offset_s == pytest.approx(true["heard_offset_s"], abs=4e-5)
    assert now.found.line.ppm == pytest.approx(true["ppm"], abs=1.0)
    assert "E has no clock" in now.evidence[0].says
    assert pairing.to_search(db, day) == []
    picture, sound = (located(db, settings, day, one) for one in (now.picture, now.sound))
    laid = [delivering.Laid(sound, now.proposal.on(now.pairing.offset))]
    whole = delivering.deliver(
        picture, laid, tmp_path / "clip0017.wav", scene="39", take="1", project="", shot_on=day.shot_on
    )
    assert (whole.samples, whole.time_reference) == (1037 * 1920, 0)
    assert "carries no timecode" in whole.remark
    pairing.pair_day(db, day)  # paired again, it stays
    assert pairings.get(db, made.id).measurement is not None


def test_a_persons_clock_and_start_move_everything_after_them(db, settings, day):
    camera = source(db, day, "C")
    clocks.choose_clock(db, settings, camera.id, version=camera.version, clock="header")
    pairing.pair_day(db, day)
    row = by_name(db, day)["C002_001.mov"]
    assert (row.clock, row.start) == ("header", 12 * 3600 + 50 * 60 + 6 + Fraction(13, 25))
    assert "no recorder was rolling" in row.unpaired
    with pytest.raises(StaleError):
        clocks.choose_clock(db, settings, camera.id, version=1, clock="LTC")
    facts.put_right(db, settings, day, shown(row), field="timecode", value="13:52:10:00")
    pairing.pair_day(db, day)
    assert by_name(db, day)["C002_001.mov"].start == 13 * 3600 + 52 * 60 + 10
    known = known_of_day(db, day).recordings[str(row.id)]
    assert (known.values["timecode"].origin, known.values["timecode"].read) == (
        "put right by test editor",
        "12:50:06:13",
    )
    facts.put_right(db, settings, day, shown(row), field="timecode", value=None)
    assert known_of_day(db, day).recordings[str(row.id)].label == "12:50:06:13"
    coded = by_name(db, day)["C002_002.mov"]
    camera = source(db, day, "C")
    clocks.choose_clock(db, settings, camera.id, version=camera.version, clock="LTC")
    typed = by_name(db, day)["clip0017-0019.mov"]
    for one in (coded, typed):  # over LTC, and where there is no clock at all
        facts.put_right(db, settings, day, shown(one), field="timecode", value="15:00:00:00")
    known = known_of_day(db, day)
    assert {known.recordings[str(one.id)].label for one in (coded, typed)} == {"15:00:00:00"}
    assert known.clocks["E"].clock == "none"  # what a person typed of one file is no clock of its source
    for value, words in (("13:52", "Write it like"), ("13:52:10:30", "out of range")):
        with pytest.raises(RefusedError, match=words):
            facts.put_right(db, settings, day, shown(row), field="timecode", value=value)


def test_brought_back_moved_and_meant_so(db, settings, day):
    rows = by_name(db, day)
    slow, copy = rows["D001_001.mov"], rows["37_02 copy.wav"]
    facts.put_right(db, settings, day, shown(slow), field="aside", value="")
    pairing.pair_day(db, day)
    assert by_name(db, day)["D001_001.mov"].aside == ""
    paired = next(p for p in pairings.of_day(db, day.id) if p.sound_id == rows["39_01.wav"].id)
    measuring.measure_pairing(db, settings, paired.id)
    assert gathering.of_pairing(db, paired.id).state == "measured"
    facts.put_right(db, settings, day, shown(rows["39_01.wav"]), field="aside", value="wild")
    pairing.pair_day(db, day)
    assert by_name(db, day)["39_01.wav"].aside == "wild"
    now = gathering.of_pairing(db, paired.id)  # measured or not, it waits for nobody any more
    assert (now.state, now.aside, now.needs_person) == ("set aside", "wild", False)
    assert sources.move(db, settings, day, shown(copy), to_tag="S9") == 1
    assert source(db, day, "S9").kind == "sound"
    assert sources.move(db, settings, day, shown(copy), to_tag="S1") == 1
    assert "S9" not in {one.tag for one in days.sources(db, day.id)}  # nothing was left of it
    with pytest.raises(RefusedError, match="cannot be of it"):
        sources.move(db, settings, day, shown(slow), to_tag="S1")
    with pytest.raises(RefusedError, match="together"):
        sources.move(db, settings, day, shown(slow, copy), to_tag="X")
    odd = next(one for one in known_of_day(db, day).oddities if one.kind == "LTC leaks")
    oddities.accept(db, settings, day, odd.key, "short cable")
    assert overrides.accepted(db, day.id)[odd.key].note == "short cable"
    intake.take_in(db, settings, day)  # a second intake loses nothing
    assert odd.key in overrides.accepted(db, day.id)
    assert by_name(db, day)["37_02 copy.wav"].source_id == source(db, day, "S1").id
    said = " ".join(line.what for line in journal.of_day(db, day.id))
    assert "moved 37_02 copy.wav to source S9" in said
    assert "short cable" in said


def test_what_an_older_edition_read_is_read_again_and_nothing_else_of_a_file_changes(db, settings, day):
    names = ("37_01.wav", "37_02.wav")
    row, other = (by_name(db, day)[name] for name in names)
    right, content, heard = row.facts, row.content, row.heard
    row.facts = replace(right, time_reference=0, read_by=EDITION - 1)
    told = other.facts = replace(other.facts, scene="by hand")  # of this edition: as it lies, it is not read again
    db.commit()
    intake.take_in(db, settings, day)
    row, other = (by_name(db, day)[name] for name in names)
    assert (row.facts, row.content, row.heard, row.state) == (right, content, heard, "ready")
    assert other.facts == told


def test_the_page_lists_filters_orders_and_changes_together(db, settings, day):
    app = create_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    page = client.get(f"/days/{day.id}/intake").text
    assert "timecode on a sound channel of 2 of 2 recordings" in page
    assert "LTC leaks" in page
    rows = by_name(db, day)
    picked = client.get(f"/days/{day.id}/intake?show=aside&order=-path").text
    shown = {name for name in rows if f"<bdi>{name}</bdi>" in picked}
    assert shown == {"37_02 copy.wav", "D001_001.mov", "D001_002.mov", "D001_003.mov"}
    assert picked.index("<bdi>D001_003.mov") < picked.index("<bdi>D001_001.mov")
    form = {
        "recording": [f"{rows[name].id}:{rows[name].version}" for name in ("C002_001.mov", "C002_002.mov")],
        "do": "put",
        "field": "scene",
        "value": "37X",
    }
    assert "scene of 2 put right" in client.post(f"/days/{day.id}/intake/together", data=form).text
    assert client.get(f"/days/{day.id}/intake?show=changed").text.count("37X") == 2
    assert client.post(f"/days/{day.id}/intake/together", data=form).status_code == 409  # seen before it was put right
    form["recording"] = [item.replace(":1", ":2") for item in form["recording"]]
    for wrong, words in (
        ({**form, "do": "aside", "value": ""}, "Say why"),
        ({**form, "recording": []}, "Nothing is selected"),
        ({**form, "do": "move", "to": "S1"}, "cannot be of it"),
        ({**form, "do": "fly"}, "Choose what to do"),
    ):
        answer = client.post(f"/days/{day.id}/intake/together", data=wrong)
        assert (answer.status_code, words in answer.text) == (422, True), words
