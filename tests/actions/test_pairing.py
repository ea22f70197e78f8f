"""Two workers told to pair one day at once; a page of a day that another is changing."""

import re
import threading
from dataclasses import replace
from fractions import Fraction

import pytest
from tests.conftest import shown
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import correct, facts, gathering, merging, pairing
from vesk.actions.handover.products import placed_by_clock
from vesk.actions.known import known_of_day
from vesk.core.heard import Heard
from vesk.core.kinds import MATCHED, PICTURE
from vesk.core.sound.levels import SoundLevel
from vesk.core.sound.measurement import Line, Measurement, refused
from vesk.dailies.searching import why_alone
from vesk.store import pairings, recordings
from vesk.store.session import open_session
from vesk.store.tables import Day


def test_a_day_is_paired_once_by_two_at_a_time(db, settings):
    day = paper_day(db, {"A/A001_001.mov": picture("09:00:00:00"), "S1/7_01.wav": sound("08:59:58:00")})
    done = []

    def again():
        with open_session(settings.sqlalchemy_url) as other:
            own = other.get(Day, day.id)
            done.append(pairing.pair_day(other, own))
            merging.merge_day(other, settings, own)
            other.commit()

    pairing.pair_day(db, day)  # written, not yet committed
    second = threading.Thread(target=again)
    second.start()
    second.join(0.5)
    assert second.is_alive()  # it waits for what the first does
    assert done == []
    db.commit()
    second.join(20)
    assert len(done) == 1
    assert len(pairings.of_day(db, day.id)) == 1


def test_what_was_corrected_stays_where_it_lies_when_a_clock_changes(db, settings):
    files = {
        "A/A001_001.mov": picture("09:00:00:00"),
        "A/A001_002.mov": picture("09:10:00:00"),
        "S1/7_01.wav": sound("08:59:58:00"),
        "S1/7_02.wav": sound("09:09:58:00"),
    }
    day = paper_day(db, files)
    pairing.pair_day(db, day)
    kept, other = pairings.of_day(db, day.id)
    correct.set_own(db, settings, kept.id, version=kept.version, slip=Fraction(1, 10), ppm=Fraction(0))
    was = gathering.of_pairing(db, kept.id).laid
    for name, label in (("7_01.wav", "08:59:59:00"), ("7_02.wav", "09:09:59:00")):
        own = recording(db, day, name)
        facts.put_right(db, settings, day, shown(own), field="timecode", value=label)
    pairing.pair_day(db, day)
    assert gathering.of_pairing(db, kept.id).laid == was
    assert (kept.offset, other.offset) == (-2, -1)


def test_a_picture_found_nowhere_is_searched_again_only_when_others_have_come(db, settings):
    day = paper_day(db, {"A/A001_001.mov": picture("09:00:00:00"), "S1/7_01.wav": sound("12:00:00:00")})
    pairing.pair_day(db, day)
    (lone,) = pairing.to_search(db, day)
    lone.searched = 1
    pairing.pair_day(db, day)
    assert why_alone(lone.unpaired, lone.searched).endswith("; its sound was found in none of 1 recordings")
    assert pairing.to_search(db, day) == []
    lone.searched = 7
    assert pairing.to_search(db, day) == [lone]


def test_by_hand_files_lie_as_people_count_and_a_part_that_changed_its_kind_ends_nothing_else(db, settings):
    files = {f"E/take{n}.mov": picture("", 60 + n, channels=0) for n in (9, 10, 11)}
    day = paper_day(db, files)
    run = merging.merge_by_hand(db, settings, day, shown(*recordings.files_of_day(db, day.id)), "run")
    assert run.name == "take9-11.mov"
    assert [row.name for row in recordings.members_of(db, run)] == ["take9.mov", "take10.mov", "take11.mov"]
    part = recording(db, day, "take10.mov")
    part.facts, part.content = replace(part.facts, fps=Fraction(24)), "copied anew"
    merging.refresh(db, day)
    assert run.state == "unreadable"
    assert "they differ in frame rate" in run.problem
    assert merging.take_apart(db, settings, run.id, version=run.version).state == "apart"
    assert len(recordings.ready_of_day(db, day.id)) == 3


def test_a_part_is_not_searched_for_by_itself(db, settings):
    files = {f"E/clip{n:04}.mov": picture("", 600) for n in (1, 2, 3)}
    day = paper_day(db, files)
    # Without sound to listen to, number and limit decide.
    for row in recordings.files_of_day(db, day.id):
        row.facts = replace(row.facts, channels=0)
        db.add(row)
    (run,) = merging.merge_day(db, settings, day)
    assert run.name == "clip0001-0003.mov"
    part = recording(db, day, "clip0002.mov")
    assert part.member_of == run.id
    assert pairing.pair_by_sound(db, settings, part.id, lambda _done, _total: True) == []
    assert part.unpaired == ""


def test_no_word_that_a_person_types_decides_anything(db, settings):
    """Reasons and names are read by people: a picture set aside by a word of Vesk's is no slowed one for that."""
    files = {"A/all gone, it is empty.mov": picture("09:00:00:00"), "S1/7_01.wav": sound("09:00:00:00")}
    day = paper_day(db, files)
    pairing.pair_day(db, day)
    own = recording(db, day, "all gone, it is empty.mov")
    facts.put_right(db, settings, day, shown(own), field="aside", value="off-speed: so they say")
    pairing.pair_day(db, day)
    assert (own.aside, own.off_speed, own.took) == ("off-speed: so they say", "", None)
    own.state, own.problem = "unreadable", f"{own.path}: it cannot be decoded."
    db.flush()
    lost = [one for one in known_of_day(db, day).oddities if own.path in one.about]
    assert [one.kind for one in lost] == ["cannot be read"]


def test_a_mute_clip_of_a_camera_an_hour_off_is_paired_and_placed_by_its_devices_clock(db):
    files = {}
    for n in range(4):
        files[f"A/A001_00{n}.mov"] = picture(f"10:{10 * n:02}:00:00")  # an hour ahead of everybody
        files[f"S1/31_0{n}.wav"] = sound(f"09:{10 * n:02}:00:00")
    files["A/A001_009.mov"] = picture("10:15:00:00", channels=0, samples=0)
    files["S1/31_09.wav"] = sound("09:14:58:00")
    day = paper_day(db, files)
    pairing.pair_day(db, day)
    assert pairings.of_day(db, day.id) == []
    by = {row.name: row for row in recordings.of_day(db, day.id)}
    for n in range(4):
        row = pairings.propose(
            db, day_id=day.id, picture_id=by[f"A001_00{n}.mov"].id, sound_id=by[f"31_0{n}.wav"].id,
            offset=Fraction(-3600),
        )  # fmt: skip
        row.state = pairings.MEASURED
        row.measurement = Measurement(MATCHED, "", Line(10.0, 0.01, 0.0, 1e-5, 0.1), 0.0, 10.0, 20.0, share=1.0)
    db.flush()
    (made,) = pairing.pair_by_solution(db, day)
    row = pairings.get(db, made)
    row.state, row.measurement = pairings.MEASURED, refused("the camera recorded no scratch sound", unheard=True)
    db.flush()
    now = next(one for one in gathering.of_day(db, day) if one.pairing.id == made)
    assert (now.picture.name, now.sound.name) == ("A001_009.mov", "31_09.wav")
    # Its sound begins two seconds before it, and where the clocks of both lay it, an hour earlier still.
    assert float(now.pairing.offset + now.proposal.slip) == pytest.approx(-1.99, abs=0.005)
    assert now.verdict.cause == "clock set wrong"
    assert "No sound places it" in now.verdict.text
    assert "A's clock does, known from its other takes" in now.verdict.text
    assert (now.by_clock, now.placed_by) == (True, "timecode")  # and so it may be handed over, with its band
    assert re.fullmatch(
        r"31_09\.wav: placed by clock, within \d\.\d\d f \(95 %\); nobody heard it", placed_by_clock(now)
    )
    assert pairing.pair_by_solution(db, day) == []
    # Had both sound, and shared nothing, that their clocks meet would make them no partners.
    row.measurement = refused("no place was found where the two share sound")
    db.flush()
    now = next(one for one in gathering.of_day(db, day) if one.pairing.id == made)
    assert (now.proposal, now.verdict.cause) == (None, "no common sound")


def test_a_smaller_copy_that_was_measured_before_it_was_known_is_left_out_and_can_be_brought_back(db, settings):
    files = {}
    for n in range(3):
        shot = replace(picture(f"09:{10 * n:02}:00:00"), width=1920, height=1080)
        files[f"A/A001_00{n}.mov"] = shot
        files[f"P/A001_00{n}.mov"] = replace(shot, width=640, height=360)
        files[f"S1/31_0{n}.wav"] = sound(f"09:{10 * n:02}:00:00")
    day = paper_day(db, files)
    pairing.pair_day(db, day)
    assert len(pairings.of_day(db, day.id)) == 6
    assert not pairing.knows_more(db, day)
    for row in pairings.of_day(db, day.id):
        row.measured_as, row.state = "as it was", pairings.MEASURED
    for row in recordings.of_day(db, day.id):
        if row.kind == PICTURE:
            level = {"0": -30.0, "1": -24.0, "2": -37.0}[row.path[-5]] - (3 if row.path.startswith("P") else 0)
            row.heard = Heard(levels=(SoundLevel(level + 12, level, 0),))
    db.flush()
    assert pairing.knows_more(db, day)
    pairing.pair_day(db, day)
    rows = {row.path: row for row in recordings.of_day(db, day.id)}
    assert rows["P/A001_001.mov"].aside == "a smaller copy of A/A001_001.mov"
    assert {recordings.get(db, one.picture_id).path[0] for one in pairings.of_day(db, day.id)} == {"A"}
    assert not pairing.knows_more(db, day)
    assert [one.kind for one in known_of_day(db, day).oddities] == ["smaller copy"]
    facts.put_right(db, settings, day, shown(rows["P/A001_001.mov"]), field="aside", value="")
    pairing.pair_day(db, day)
    own = [one for one in pairings.of_day(db, day.id) if recordings.get(db, one.picture_id).path[0] == "P"]
    assert len(own) == 1
    # Whoever decided about it meanwhile keeps it.
    correct.set_own(db, settings, own[0].id, version=own[0].version, slip=Fraction(1, 25), ppm=Fraction(0))
    facts.put_right(db, settings, day, shown(rows["P/A001_001.mov"]), field="aside", value=None)
    assert known_of_day(db, day).recordings[str(rows["P/A001_001.mov"].id)].aside == ""
