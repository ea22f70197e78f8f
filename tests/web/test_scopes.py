"""Corrections for a run, a stretch, what is selected; how they add up on the bench; tolerance; displays; other days."""

import re
from fractions import Fraction

import pytest
from tests.paper_day import paper_day, picture, recording, sound, source
from tests.web.test_deciding import answer, chosen, day, shown, statuses

from vesk.actions import correct, displays, pairing, returning, scoping
from vesk.actions.overview import Overview
from vesk.core.day.loops import Loop, suspects
from vesk.core.kinds import MATCHED, Kind, Scope
from vesk.core.sound.measurement import Jump, Line, Measurement
from vesk.store import days, journal, pairings
from vesk.store.tables import ScopedCorrectionRow

__all__ = ["day"]


def device(client, db, made, **more):
    one = statuses(db, made, "A")[0]
    sent = {"camera": one.picture_source.id, "recorder": one.sound_source.id, **more}
    return shown(client.post(f"/days/{made.id}/clocks/correct", data=sent))


def test_a_stretch_adds_to_its_device_and_each_is_undone_by_itself(client, db, day):
    device(client, db, day, slip="1")
    device(client, db, day, slip="0.5", since_label="09:05:00", before_label="09:15:00")
    slips = [float(one.as_corrected.slip * 25) for one in statuses(db, day, "A")]
    assert slips == pytest.approx([1, 1.5, 1])
    middle = statuses(db, day, "A")[1]
    assert [part.scope for part in middle.parts] == [Scope.DEVICE, Scope.STRETCH]
    page = shown(client.get(f"/bench/{middle.pairing.id}"))
    assert "A with S1, the device: slip +1.000 f" in page
    assert "A with S1, a part of the day: slip +0.500 f" in page
    assert "sum: slip +1.500 f" in page
    device(client, db, day, slip="2")  # of one scope the newest counts
    assert [float(one.as_corrected.slip * 25) for one in statuses(db, day, "A")] == pytest.approx([2, 2.5, 2])
    first = [one for one in journal.of_day(db, day.id) if one.act][-1]
    client.post(f"/days/{day.id}/acts/{first.act}/undo")
    assert len(statuses(db, day, "A")[1].parts) == 2  # the older of the device's two was not what lay


def test_a_take_s_own_stays_when_its_device_s_changes_unless_a_person_says_otherwise(client, settings, db, day):
    first = statuses(db, day, "A")[0]
    correct.set_own(db, settings, first.pairing.id, version=first.pairing.version, slip=Fraction(3, 25))
    db.commit()
    device(client, db, day, slip="1")
    now = statuses(db, day, "A")
    assert [float(one.as_corrected.slip * 25) for one in now] == pytest.approx([3, 1, 1])
    assert "the take's own, above them: slip +2.000 f" in shown(client.get(f"/bench/{first.pairing.id}")).replace(
        "&#39;", "'"
    )
    device(client, db, day, slip="1.5", over="yes")
    now = statuses(db, day, "A")
    assert [float(one.as_corrected.slip * 25) for one in now] == pytest.approx([1.5, 1.5, 1.5])
    line = next(one for one in journal.of_day(db, day.id) if "above their own" in one.what)
    client.post(f"/days/{day.id}/acts/{line.act}/undo")
    assert float(statuses(db, day, "A")[0].as_corrected.slip * 25) == pytest.approx(3)


def test_what_was_checked_by_a_sum_stays_as_it_was_seen(client, settings, db, day):
    device(client, db, day, slip="-0.31")
    device(client, db, day, slip="0.01", since_label="09:05:00")
    last = statuses(db, day, "A")[2]
    correct.check(db, settings, last.pairing.id, version=last.pairing.version)
    db.commit()
    device(client, db, day, slip="7")
    now = statuses(db, day, "A")
    assert [float(one.as_corrected.slip * 25) for one in now] == pytest.approx([7, 7.01, -0.3])
    assert now[2].state == "checked"


@pytest.fixture
def long_sound(db):
    """One recorder file of half an hour with three takes of a camera in it, and another recorder beside."""
    files = {"S1/31_00.wav": sound("09:00:00:00", 1800), "S2/41_00.wav": sound("09:00:00:00", 60)}
    files |= {f"A/A001_00{n}.mov": picture(f"09:{10 * n:02}:00:00") for n in range(3)}
    made = paper_day(db, files)
    pairing.pair_day(db, made)
    db.commit()
    return made


def test_a_run_is_corrected_on_the_bench_for_all_its_takes_and_no_other(client, db, long_sound):
    own = [one for one in statuses(db, long_sound, "A") if one.sound_source.tag == "S1"]
    assert len(own) == 3
    page = shown(client.get(f"/bench/{own[1].pairing.id}"))
    assert "all 3 takes of 31_00.wav" in page
    sent = {"version": own[1].pairing.version, "slip_frames": "1.25", "ppm": "4", "for": "sound"}
    page = shown(client.post(f"/bench/{own[1].pairing.id}/own", data=sent))
    assert "Set for 3 takes of 31_00.wav, at once" in page
    now = statuses(db, long_sound, "A")
    assert [float(one.as_corrected.slip * 25) for one in now if one.sound_source.tag == "S1"] == [1.25] * 3
    assert all(not one.is_corrected for one in now if one.sound_source.tag == "S2")
    db.expire_all()
    (line,) = [one for one in journal.of_day(db, long_sound.id) if one.act]
    assert "31_00.wav: one correction for 3 takes, slip +1.25 f, rate +4.00 ppm" in line.what
    assert "Undone for 3 takes" in answer(client, long_sound, f"acts/{line.act}/undo")
    stale = shown(client.post(f"/bench/{own[1].pairing.id}/own", data=sent))
    assert "changed" in stale
    assert not any(one.is_corrected for one in statuses(db, long_sound, "A"))


def test_a_jump_of_the_recorder_is_mended_for_every_take_that_its_file_sounds_under(client, settings, db, long_sound):
    own = [one for one in statuses(db, long_sound, "A") if one.sound_source.tag == "S1"]
    row = pairings.get(db, own[1].pairing.id)
    row.state = pairings.MEASURED
    line = Line(
        10.0, -600.0, 0.0, 1e-5, 0.1, jumps=(Jump(15.0, 0.5, 14.9, 15.1, 1e-4),)
    )  # half a second lost, 10 min 15 s in
    row.measurement = Measurement(MATCHED, "", line, 0.0, 10.0, 20.0, share=1.0, log10_false_alarm=-40.0)
    db.commit()
    db.expire_all()
    found = next(one for one in statuses(db, long_sound, "A") if one.pairing.id == row.id)
    sent = {"version": found.pairing.version, "slip_frames": "0", "ppm": "0", "for": "sound"}
    page = shown(client.post(f"/bench/{row.id}/own", data=sent))
    assert "Set for 3 takes of 31_00.wav" in page
    now = {one.picture.name: one for one in statuses(db, long_sound, "A") if one.sound_source.tag == "S1"}
    # Before the jump it lies as it did; a take ten minutes after it comes half a second later.
    for name, begins, later in (("A001_000.mov", 5, 0), ("A001_002.mov", 1205, 0.5)):
        one = now[name]
        moved = float(one.laid(Fraction(begins)) - one.pairing.offset - begins)
        assert moved == pytest.approx(later)
    assert "a jump mended" in next(one.what for one in journal.of_day(db, long_sound.id) if one.act)


def test_all_that_is_selected_is_slipped_at_once_seen_before_and_undone_at_once(client, db, day):
    two = statuses(db, day, "A")[:2]
    preview = answer(client, day, "together/preview", slip_frames="-0.31", pairing=chosen(two))
    assert "It touches <b>2 takes</b>: each slipped by −0.310 f" in preview
    assert re.search(r"\+0\.31 f.*then.*[+−]0\.00 f", preview)
    for nothing in ({"slip_frames": "0"}, {"slip_frames": "lots"}, {"slip_frames": "1", "pairing": []}):
        said = answer(client, day, "together/preview", **({"pairing": chosen(two)} | nothing))
        assert 'class="problem"' in said
    page = answer(client, day, "together", do="slip", slip_frames="-0.31", pairing=chosen(two))
    assert "2 slipped by −0.310 f from where they lay." in page
    again = statuses(db, day, "A")[:2]
    answer(client, day, "together", do="slip", slip_frames="1", pairing=chosen(again))
    assert [float(one.as_corrected.slip * 25) for one in statuses(db, day, "A")] == pytest.approx([0.69, 0.69, 0])
    line = next(one for one in journal.of_day(db, day.id) if one.act)
    answer(client, day, f"acts/{line.act}/undo")
    assert [float(one.as_corrected.slip * 25) for one in statuses(db, day, "A")] == pytest.approx([-0.31, -0.31, 0])


def test_what_is_let_pass_is_said_for_the_day_for_a_take_and_for_what_is_selected(client, db, day):
    assert [one.verdict.holds for one in statuses(db, day, "A")] == [False] * 3  # 0.31 f off, 0.25 let pass
    page = answer(client, day, "tolerance", version=days.get_day(db, day.id).version, tolerance="0.5")
    assert "Let pass from now on: 0.5 f, 20 ms: lips and sticks look right" in page
    assert [one.verdict.holds for one in statuses(db, day, "A")] == [True] * 3
    first = statuses(db, day, "A")[0]
    sent = {"version": first.pairing.version, "tolerance": "1 ms"}
    page = shown(client.post(f"/bench/{first.pairing.id}/tolerance", data=sent))
    assert "0.025 f, 1 ms: two sounds of one moment can be mixed without an echo" in page
    assert [one.verdict.holds for one in statuses(db, day, "A")] == [False, True, True]
    page = answer(client, day, "together", do="tolerance", tolerance="", pairing=chosen(statuses(db, day, "A")))
    assert "3 given a tolerance of the day." in page
    assert ">Undo<" not in page  # it is set again, and nothing of it stands to be undone
    assert [one.verdict.holds for one in statuses(db, day, "A")] == [True] * 3
    refused = client.post(f"/days/{day.id}/tolerance", data={"version": 0, "tolerance": "1"})
    assert refused.status_code == 409
    version = days.get_day(db, day.id).version
    assert "is no tolerance" in answer(client, day, "tolerance", version=version, tolerance="99")


def test_a_display_that_was_filmed_is_read_told_and_taken_away(client, db, day):
    first, _, third = statuses(db, day, "A")
    where = f"/recordings/{first.picture.id}/labels"
    page = shown(client.post(where, data={"frame": "50", "label": "09:00:02:02", "display": "slate"}))
    assert "slate on frame 50 is kept." in page
    assert "09:00:02:02" in page
    client.post(
        f"/recordings/{third.picture.id}/labels", data={"frame": "0", "label": "09:20:00:04", "display": "slate"}
    )
    page = shown(client.get(f"/days/{day.id}/clocks"))
    assert "slate, read twice in A: the display is off by 2 to 4 frames, ahead" in page
    for wrong, words in (
        ({"frame": "9999", "label": "09:00:02:02"}, "has frames 0 to 499"),
        ({"frame": "5", "label": "nine"}, "is no label"),
    ):
        answered = client.post(where, data=wrong)
        assert answered.status_code == 422
        assert words in shown(answered)
    (label,) = [one for one in displays.seen_labels.of_day(db, day.id) if one.recording_id == first.picture.id]
    assert "Taken away." in shown(client.post(f"{where}/{label.id}/away"))
    assert client.post(f"{where}/{label.id}/away").status_code == 404
    assert "read once" in shown(client.get(f"/days/{day.id}/clocks"))


def test_devices_of_a_production_come_back_by_what_their_files_say(client, db, day):
    for number, tag in ((10, "A"), (11, "X")):
        files = {f"{tag}/A002_00{n}.mov": picture(f"10:{10 * n:02}:00:00") for n in range(2)}
        made = paper_day(db, files | {"S9/99_00.wav": sound("10:00:00:00")})
        made.number = number
        other = source(db, made, tag)
        other.distance_mm, other.delay_us, other.name = 3000, -40_000, "wheelhouse"
    db.commit()
    page = shown(client.get(f"/days/{day.id}/clocks/other-days"))
    assert "day 10: entered 3.0 m, −31.25 ms" in page or "day 10: entered 3.0 m" in page
    own = source(db, day, "A")
    (known,) = [one for one in returning.returned(db, days.get_day(db, day.id)) if one.source.tag == "A"]
    assert [one.day.number for one in known.elsewhere] == [10, 11]
    assert known.take_over is not None
    sent = client.post(f"/sources/{own.id}/as-on/{known.take_over.source.id}", data={"version": own.version})
    assert "A hears as on day 10" in shown(sent)
    db.expire_all()
    assert (source(db, day, "A").distance_mm, source(db, day, "A").delay_us) == (3000, -40_000)
    other = source(db, day, "C")  # it bears the same reels nowhere else
    assert other.tag not in {one.source.tag for one in returning.returned(db, days.get_day(db, day.id))}


def test_what_fits_is_filled_in_and_nothing_is_corrected_by_that(client, db, day):
    one = statuses(db, day, "A")[0]
    sent = {"camera": one.picture_source.id, "recorder": one.sound_source.id}
    page = shown(client.post(f"/days/{day.id}/clocks/fit", data=sent))
    assert "What fits 3 takes is filled in below. Nothing is corrected yet." in page
    assert 'value="-0.3100"' in page
    assert not any(one.is_corrected for one in statuses(db, day, "A"))
    other = statuses(db, day, "C")[0]  # its evidence disagrees: nothing is fitted to that
    refused = client.post(f"/days/{day.id}/clocks/fit", data=sent | {"camera": other.picture_source.id})
    assert refused.status_code == 422
    assert "No one correction puts half of C with S1 right there" in shown(refused)
    hour = shown(client.post(f"/days/{day.id}/clocks/preview", data=sent | {"slip": "-01:00:00:00"}))
    assert "slip −90000.00 f" in hour


def test_of_loops_that_do_not_close_the_recording_that_most_lead_over_is_named():
    good, bad = Loop(("a", "s", "b"), 1e-5, 1e-5), Loop(("a", "s", "x"), 0.4, 1e-5)
    other = Loop(("b", "s", "x"), 0.4, 1e-5)
    assert suspects([bad, other, good], [bad, other]) == {bad.members: "x", other.members: "x"}
    assert suspects([bad], [bad]) == {bad.members: ""}
    assert suspects([good], []) == {}


def test_a_row_of_another_scope_than_its_takes_touches_none(db, day):
    rows = statuses(db, day, "A")
    row = ScopedCorrectionRow(
        day_id=day.id, scope=Scope.RUN, recording_id=recording(db, day, "31_00.wav").id, slip=Fraction(1),
        drift=Fraction(0), ppm=Fraction(0), anchor=Fraction(0), retimed=Kind.SOUND, made_by="x",
    )  # fmt: skip
    length = days.rate_of(day).day
    assert [scoping.is_of(row, one.picture, one.sound, length) for one in rows] == [True, False, False]
    assert pairings.scoped_corrections(db, day.id) == []
    assert Overview(db, day).scoped == []
