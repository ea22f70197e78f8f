"""What is left to decide on a day: one answer for one cause; nothing that disagrees is done with others unseen."""

import re
from dataclasses import replace
from fractions import Fraction

import pytest
from tests.paper_day import paper_day, picture, sound, source

from vesk.actions import correct, deciding, gathering, pairing, scoping, turnover
from vesk.actions.overview import Overview
from vesk.core.kinds import AMBIGUOUS, LTC, MATCHED, REFUSED, Asked
from vesk.core.sound.measurement import Line, Measurement
from vesk.store import days, journal, pairings, recordings
from vesk.store import sync_points as points
from vesk.store.tables import SyncPointRow
from vesk.web.shared.formats import frames

FRAME = 0.04
EARLY, PHASE = -FRAME, -0.31 * FRAME  # C hears a frame early; A's frames begin after its timecode's


def matched(row, late):
    """Have a pairing matched by sound, that much later than it lies by its labels."""
    row.state = pairings.MEASURED
    line = Line(10.0, float(row.offset) + late, 0.0, 1e-5, 0.1)
    row.measurement = Measurement(MATCHED, "", line, 0.0, 10.0, 20.0, share=1.0, log10_false_alarm=-40.0)


@pytest.fixture
def day(db):
    """Three takes of A in the morning, two of C with LTC after lunch; all measured, C's claps seen."""
    files = {}
    for n in range(3):
        files[f"A/A001_00{n}.mov"] = picture(f"09:{10 * n:02}:00:00")
        files[f"S1/31_0{n}.wav"] = sound(f"09:{10 * n:02}:00:00")
    for n in range(2):
        files[f"C/C001_00{n}.mov"] = picture(f"14:{10 * n:02}:00:00")
        files[f"S1/37_0{n}.wav"] = sound(f"14:{10 * n:02}:00:00")
    made = paper_day(db, files)
    pairing.pair_day(db, made)
    for row in pairings.of_day(db, made.id):
        camera = recordings.by_id(db, [row.picture_id])[row.picture_id]
        wheelhouse = camera.name.startswith("C")
        matched(row, EARLY if wheelhouse else PHASE)
        if wheelhouse:
            camera.clock = LTC
            contact = 1.01 + 0.013 * row.id
            frame = int(contact * 25) + 1
            db.add(
                SyncPointRow(
                    recording_id=camera.id, how=points.SEEN, kind="clap", frame=frame, proposed_frame=frame,
                    likely=5.0, heard_us=round((contact + EARLY) * 1e6),
                )
            )  # fmt: skip
    db.commit()
    return made


def statuses(db, day, tag):
    db.expire_all()
    return [one for one in gathering.of_day(db, day) if one.picture_source.tag == tag]


def shown(answered):
    return " ".join(answered.text.split())


def answer(client, day, where, **sent):
    return shown(client.post(f"/days/{day.id}/{where}", data=sent))


def chosen(some):
    return [f"{one.pairing.id}:{one.pairing.version}" for one in some]


def test_a_contradiction_is_one_question_for_its_camera_and_never_done_with_others(client, db, day):
    page = shown(client.get(f"/days/{day.id}/"))
    assert "2 answers for 5 takes" in page
    assert "C hears 1.00 frame early" in page
    assert "say its LTC and 2 of 2 claps: 2 takes" in page
    assert "A with S1: 3 takes, all +0.31 f: one correction for A, slip −0.31 f" in page
    for wanted in ("proposal", "check"):
        every = [*statuses(db, day, "A"), *statuses(db, day, "C")]
        page = answer(client, day, "together", do=wanted, pairing=chosen(every))
        assert page.count("its evidence disagrees, so it is not done together with others") == 2
    assert {one.state for one in statuses(db, day, "A")} == {"checked"}
    assert {one.state for one in statuses(db, day, "C")} == {"measured"}
    obstacles = {item.picture.name: item.obstacle for item in turnover.items(db, day)}
    assert "not checked yet" in obstacles["C001_000.mov"]
    assert obstacles["A001_000.mov"] == ""
    # On the bench both figures stand: against the scratch, and where the picture wants the sound.
    bench = shown(client.get(f"/bench/{statuses(db, day, 'C')[0].pairing.id}"))
    assert "Along the scratch the sound is 1.00 frame late as it lies, along the picture" in bench


def test_once_said_how_late_it_hears_its_sound_lies_on_the_picture_and_it_can_be_taken_back(client, db, day):
    row = source(db, day, "C")
    page = answer(client, day, f"ears/{row.id}", do="take", version=row.version)
    assert "C hears" in page
    assert "C hears 1.00 frame early" not in page
    for one in statuses(db, day, "C"):
        assert one.contradiction is None
        assert one.verdict.holds  # its labels were right all along
        assert abs(one.proposal.slip) < Fraction(1, 400)
    row = source(db, day, "C")
    assert (row.ears_by, abs(row.delay_us + 40_000) < 2000) == ("test editor", True)
    page = shown(client.post(f"/sources/{row.id}/ears", data={"version": row.version}))
    assert "taken back" in page
    assert statuses(db, day, "C")[0].contradiction is not None


def test_a_person_may_say_that_the_scratch_is_right(client, db, day):
    row = source(db, day, "C")
    answer(client, day, f"ears/{row.id}", do="keep", version=row.version)
    for one in statuses(db, day, "C"):
        assert one.contradiction is None
        assert float(one.proposal.slip) == pytest.approx(EARLY, abs=1e-4)
    stale = client.post(f"/days/{day.id}/ears/{row.id}", data={"do": "take", "version": row.version - 1})
    assert stale.status_code == 409


def test_one_answer_for_a_device_corrects_all_its_takes(client, db, day):
    form = client.get(f"/days/{day.id}/").text
    stamp = re.search(r'name="decision" value="(\w+)"', form)[1]
    page = answer(client, day, "together", do="settle", decision=stamp)
    assert "3 takes corrected by one correction; 3 marked as checked." in page
    assert 'A with S1: slip −0.31 f <span class="quiet">3 takes, by test editor' in page
    for one in statuses(db, day, "A"):
        assert one.state == "checked"
        assert one.correction is None  # one row, with the device as its scope
        assert float(one.as_corrected.slip) == pytest.approx(PHASE, abs=1e-4)
    again = client.post(f"/days/{day.id}/together", data={"do": "settle", "decision": stamp})
    assert again.status_code == 409  # what it was about is decided
    assert "changed meanwhile" in again.text
    # Theirs, and what was not done.
    assert "The latest on this day: A with S1: one correction for 3 takes" in again.text
    assert "Yours, not applied: do settle" in again.text
    (line,) = [one for one in journal.of_day(db, day.id) if one.act]
    assert "A with S1: one correction for 3 takes, slip −0.31 f; 3 checked" in line.what
    undone = f"/days/{day.id}/journal/{line.id}/undo"
    assert undone in client.get(f"/days/{day.id}/journal").text
    page = answer(client, day, f"acts/{line.act}/undo")
    assert undone not in client.get(f"/days/{day.id}/journal").text
    assert "Undone for 3 takes" in page
    assert {one.state for one in statuses(db, day, "A")} == {"measured"}
    assert client.post(f"/days/{day.id}/acts/{line.act}/undo").status_code == 422


@pytest.mark.parametrize(
    ("late", "asked"),
    [
        (
            {"A": 5.31, "B": 5.02},
            ["S1 with A and B: 6 takes, −5.31 f to −5.02 f: one answer for all"],
        ),
        ({"A": 5.31, "B": 6.42}, ["A with S1: 3 takes", "B with S1: 3 takes"]),  # two causes
        ({"A": 0.31, "B": 0.62}, ["A with S1: 3 takes", "B with S1: 3 takes"]),  # where frames begin is each camera's
    ],
)
def test_a_clock_that_is_off_against_several_is_asked_of_once(client, db, late, asked):
    times = [f"09:{10 * n:02}:00:00" for n in range(3)]
    files = {f"{tag}/{tag}001_00{n}.mov": picture(at) for tag in "AB" for n, at in enumerate(times)}
    made = paper_day(db, files | {f"S1/31_0{n}.wav": sound(at) for n, at in enumerate(times)})
    pairing.pair_day(db, made)
    for row in pairings.of_day(db, made.id):
        matched(row, FRAME * late[recordings.by_id(db, [row.picture_id])[row.picture_id].name[0]])
    db.commit()
    view = Overview(db, days.get_day(db, made.id))
    found = deciding.decisions(view)
    assert [one.says[: len(said)] for one, said in zip(found, asked, strict=True)] == asked
    if len(found) == 1:
        page = answer(client, made, "together", do="settle", decision=found[0].stamp)
        assert "6 takes corrected by one correction for each of 2; 6 marked as checked." in page
        assert [one.state for tag in "AB" for one in statuses(db, made, tag)] == ["checked"] * 6
        (line,) = [one for one in journal.of_day(db, made.id) if one.act]
        assert line.what.count("one correction for 3 takes") == 2
        assert "Undone for 6 takes" in answer(client, made, f"acts/{line.act}/undo")
        assert [one.state for tag in "AB" for one in statuses(db, made, tag)] == ["measured"] * 6


def test_what_a_person_set_or_checked_on_one_take_stands_above_its_devices_correction(client, settings, db, day):
    first, second, third = statuses(db, day, "A")
    correct.check(db, settings, first.pairing.id, version=first.pairing.version)
    correct.set_own(db, settings, second.pairing.id, version=second.pairing.version, slip=Fraction(1, 50))
    db.commit()
    view = Overview(db, days.get_day(db, day.id))
    (about,) = [one for one in deciding.decisions(view) if one.source.tag == "A" and one.asked == Asked.CLOCK]
    assert [one.pairing.id for one in about.open] == [third.pairing.id]
    made = scoping.take_for_devices(db, settings, view, about.groups)
    db.commit()
    first, second, third = statuses(db, day, "A")
    assert first.state == "checked"
    assert second.as_corrected.slip == Fraction(1, 50)
    # One take alone is no device: it is corrected by itself.
    assert third.correction is not None
    page = shown(client.get(f"/days/{day.id}/"))
    assert "Corrections of whole devices" not in page
    scoping.undo_act(db, settings, view.day, made.act)
    db.commit()
    assert [one.state for one in statuses(db, day, "A")] == ["checked", "corrected", "measured"]
    # The other two together: one correction, under what was set; what was checked before it stays as it was seen.
    two = pairings.get(db, second.pairing.id)
    correct.undo(db, settings, two.id, version=two.version)
    db.commit()
    view = Overview(db, days.get_day(db, day.id))
    scoping.take_for_devices(db, settings, view, [[one for one in view.statuses if one.state == "measured"][:2]])
    db.commit()
    first, second, third = statuses(db, day, "A")
    assert [bool(one.scoped) for one in (first, second, third)] == [False, True, True]
    bench = shown(client.get(f"/bench/{third.pairing.id}"))
    assert "A with S1, the device: slip" in bench
    assert "sum: slip" in bench
    refused = client.post(f"/bench/{third.pairing.id}/undo", data={"version": third.pairing.version})
    assert "undo that on the Day page" in shown(refused)


def test_home_lists_days_with_what_each_still_needs_and_the_door_leads_to_the_first_that_asks(client, db, day):
    page = shown(client.get("/home"))
    assert "The Lantern Ferry" in page
    assert "5 camera takes, 0 hold, 5 need you" in page
    assert client.get("/").location == f"/days/{day.id}/"


def test_filters_show_what_disagrees_and_hours_are_read_as_hours(client, day):
    page = shown(client.get(f"/days/{day.id}/?show=disagrees"))
    assert "evidence disagrees 2" in page
    assert "C001_001" in page
    assert "A001_001" not in page.split("<tbody>", maxsplit=1)[1]
    assert "breaks its device" not in page  # a filter of nothing takes no room
    assert frames(3600.2, Fraction(25)) == "+1 h 00 min 00 s 5 f"
    assert frames(107892 * 1001 / 30000, Fraction(30000, 1001)) == "+1 h 00 min 00 s 0 f"  # as labels that skip count
    assert frames(3602.02, Fraction(30000, 1001)) == "+1 h 00 min 02 s 1 f"
    assert frames(-7325.0, Fraction(25)) == "\N{MINUS SIGN}2 h 02 min 05 s 0 f"


def test_what_is_ambiguous_shares_a_sound_and_is_not_said_to_have_none(client, db, day):
    one, other, *_ = pairings.of_day(db, day.id)
    for row, decision in ((one, AMBIGUOUS), (other, REFUSED)):
        row.measurement = replace(row.measurement, decision=decision, line=None, reason="a playback")
    db.commit()
    page = shown(client.get(f"/days/{day.id}/"))
    said = re.findall(r'class="none">\s*([^<]*?)\s*</text>', page)
    assert sorted(said) == ["ambiguous", "no common sound"]
