"""What people decide while Vesk works stays as they decided it; what is handed over is what was checked."""

import csv
import os
import shutil
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import handed_over, name_ferry, shown
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import (
    clocks,
    correct,
    facts,
    gathering,
    intake,
    measuring,
    merging,
    naming,
    package,
    pairing,
    reports,
    sources,
    sync_points,
    turnover,
)
from vesk.actions.known import known_of_day
from vesk.actions.locating import located
from vesk.core.errors import MediaError, StorageError
from vesk.core.kinds import ReportKind
from vesk.dailies.sync_points import sync_points_of
from vesk.media import checksum
from vesk.media.wave import write_wave
from vesk.store import changes, days, journal, pairings, recordings, turnovers
from vesk.store import reports as kept_reports
from vesk.store import sync_points as points
from vesk.store.session import open_session
from vesk.store.tables import Delivery, SyncPointRow


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    """Return two takes of A with their sounds, taken in and paired."""
    folder = tmp_path / "media"
    shutil.copytree(ferry.folder, folder, ignore=shutil.ignore_patterns("B004*", "3[2346]*", "A006_00[34567]*"))
    named = name_ferry(db, settings, folder)
    intake.take_in(db, settings, named)
    pairing.pair_day(db, named)
    db.commit()
    return named


def only(db, day, name):
    db.flush()
    db.expire_all()
    return next(now for now in gathering.of_day(db, day) if now.picture.name == name)


def checked(db, settings, day, *names):
    for name in names:
        pid = only(db, day, name).pairing.id
        measuring.measure_pairing(db, settings, pid)
        correct.take_proposal(db, settings, pid, version=only(db, day, name).pairing.version)
        correct.check(db, settings, pid, version=only(db, day, name).pairing.version)
        db.commit()


def meanwhile(monkeypatch, where, act):
    """Have a person act, in a session of their own, in the middle of long work."""
    from importlib import import_module

    module, _, name = where.rpartition(".")
    real = getattr(import_module(module), name)

    def both(*args, **kwargs):
        result = real(*args, **kwargs)
        act()
        return result

    monkeypatch.setattr(where, both)


def test_a_pairing_set_aside_during_its_measurement_stays_set_aside(db, settings, day, monkeypatch):
    now = only(db, day, "A006_001.mov")
    said = {}

    def person():
        with open_session(settings.sqlalchemy_url) as theirs:
            row = pairings.get(theirs, now.pairing.id)
            correct.set_aside(theirs, settings, row.id, version=row.version, reason="wrong take")
            theirs.commit()
            said["version"] = row.version

    meanwhile(monkeypatch, "vesk.dailies.measuring.measure_by_sound", person)
    measuring.measure_pairing(db, settings, now.pairing.id)
    db.commit()
    after = only(db, day, "A006_001.mov")
    assert (after.state, after.pairing.reason) == ("set aside", "wrong take")
    assert after.found is not None  # what was measured is kept beside it
    assert after.pairing.version == said["version"] + 1


def test_a_measurement_of_a_file_that_was_changed_meanwhile_is_let_go(db, settings, day, monkeypatch):
    now = only(db, day, "A006_001.mov")
    path = Path(day.folder, now.sound.path)

    def somebody():
        write_wave(path, iter([np.zeros((480_000, 2), np.float32)]), sample_rate=48_000, channels=2)
        with open_session(settings.sqlalchemy_url) as theirs:
            intake.take_in(theirs, settings, days.get_day(theirs, day.id))
            theirs.commit()

    meanwhile(monkeypatch, "vesk.dailies.measuring.measure_by_sound", somebody)
    measuring.measure_pairing(db, settings, now.pairing.id)
    db.commit()
    assert only(db, day, "A006_001.mov").found is None


def test_a_clap_decided_while_claps_are_looked_for_is_kept(db, settings, day, monkeypatch):
    row = recording(db, day, "A006_001.mov")
    sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    first = next(one for one in points.of_recordings(db, [row.id])[row.id] if one.how == points.SEEN)

    def person():
        with open_session(settings.sqlalchemy_url) as theirs:
            sync_points.decide(theirs, settings, first.id, version=first.version, frame=first.frame + 1)
            theirs.commit()

    meanwhile(monkeypatch, "vesk.actions.sync_points.watched", person)
    sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    db.expire_all()
    kept = [one for one in points.of_recordings(db, [row.id])[row.id] if one.how == points.SEEN]
    assert [(one.state, one.frame) for one in kept] == [("confirmed", first.proposed_frame + 1)]


def test_who_waited_for_the_day_sees_it_as_it_is_then(db, settings, day):
    seen = days.get_day(db, day.id)
    assert seen.patterns == []
    with open_session(settings.sqlalchemy_url) as theirs:
        naming.set_patterns(theirs, settings, day.id, ["{roll}_{clip}"], version=1)
        theirs.commit()
    changes.hold(db, day.id)
    assert seen.patterns == ["{roll}_{clip}"]


@pytest.mark.parametrize("what", ["half", "noise", "noise with its old time", "gone"])
def test_another_sound_than_was_checked_is_not_handed_over(db, settings, day, what):
    checked(db, settings, day, "A006_001.mov", "A006_002.mov")
    path = Path(day.folder, only(db, day, "A006_001.mov").sound.path)
    stat = path.stat()
    if what == "half":
        os.truncate(path, stat.st_size // 2)
    elif what == "gone":
        path.unlink()
    else:
        data = bytearray(path.read_bytes())
        data[len(data) // 2 :] = os.urandom(len(data) - len(data) // 2)
        path.write_bytes(data)
        if "time" in what:
            os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    made = {recordings.get(db, one.picture_id).name: one for one in turnovers.deliveries(db, row.id)}
    assert made["A006_001.mov"].name == ""
    assert "31A_01.wav" in made["A006_001.mov"].reason
    assert made["A006_002.mov"].name == "sound/A006_002.wav"
    assert handed_over(Path(row.folder)) == {"sound/A006_002.wav"}
    if what == "gone":
        return
    # Taken in again it is another file: what was checked does not stand for it.
    intake.take_in(db, settings, day)
    db.commit()
    assert only(db, day, "A006_001.mov").state == "corrected"
    assert only(db, day, "A006_002.mov").state == "checked"


def test_a_picture_that_is_another_is_not_handed_over(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    path = Path(day.folder, only(db, day, "A006_001.mov").picture.path)
    stat, data = path.stat(), bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)
    os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    (one,) = [one for one in turnovers.deliveries(db, row.id) if "A006_001.mov" in one.reason]
    assert "other bytes than were checked" in one.reason


def test_a_sound_that_is_cut_while_it_is_read_is_not_handed_over(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    path = Path(day.folder, only(db, day, "A006_001.mov").sound.path)
    real = package.delivering.deliver

    def cut(*args, **kwargs):
        made = real(*args, **kwargs)
        with path.open("r+b") as file:
            file.seek(5000)
            file.write(b"\0" * 64)
        return made

    monkeypatch.setattr(package.delivering, "deliver", cut)
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    (one,) = [one for one in turnovers.deliveries(db, row.id) if "31A_01.wav" in one.reason]
    assert "changed while it was read" in one.reason
    assert handed_over(Path(row.folder)) == set()


def test_a_sound_that_is_linked_and_opened_up_while_it_is_read_is_handed_over(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")
    path = Path(day.folder, only(db, day, "A006_001.mov").sound.path)
    real = package.delivering.deliver

    def opened_up(*args, **kwargs):
        made = real(*args, **kwargs)
        os.link(path, path.with_name("backup"))
        path.chmod(0o664)
        return made

    monkeypatch.setattr(package.delivering, "deliver", opened_up)
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    assert handed_over(Path(row.folder)) == {"sound/A006_001.wav"}


class Killed(BaseException):
    """What nothing catches, as when a worker is killed."""


def test_a_killed_worker_leaves_no_package_that_looks_finished_and_an_undone_check_takes_its_file_away(
    db, settings, day, monkeypatch
):
    checked(db, settings, day, "A006_001.mov", "A006_002.mov")
    row = turnover.plan(db, settings, day)
    db.commit()
    real, made = package._make_take, []

    def once(*args):
        if made:
            raise Killed
        made.append(real(*args))
        return made[0]

    with monkeypatch.context() as kill:
        kill.setattr(package, "_make_take", once)
        with pytest.raises(Killed):
            package.make(db, settings, row.id)
    db.rollback()
    folder = package.place_of(settings, row)
    assert "(unfinished)" in folder.name
    assert handed_over(folder) == {"sound/A006_001.wav"}
    assert (folder / "UNFINISHED.txt").exists()
    assert not Path(row.folder).exists()
    before = (folder / "sound/A006_001.wav").stat()
    # Taken up again, with the second take's check undone: what stands is kept as it is, not made twice.
    now = only(db, day, "A006_002.mov")
    correct.undo(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    package.make(db, settings, row.id)
    final = Path(row.folder)
    assert handed_over(final) == {"sound/A006_001.wav"}
    assert not (final / "UNFINISHED.txt").exists()
    assert (final / "sound/A006_001.wav").stat().st_mtime_ns == before.st_mtime_ns
    with (final / "report.csv").open(encoding="utf-8", newline="") as file:
        report = {Path(line["picture"]).name: line for line in csv.DictReader(file)}
    assert report["A006_001.mov"]["delivered"] == "yes"
    assert "not checked yet" in report["A006_002.mov"]["reason"]


def test_a_check_undone_while_the_turnover_is_made_goes_out_of_it(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov", "A006_002.mov")
    now = only(db, day, "A006_001.mov")

    def person():
        with open_session(settings.sqlalchemy_url) as theirs:
            row = pairings.get(theirs, now.pairing.id)
            if pairings.standing_checks(theirs, [row.id]):
                correct.undo(theirs, settings, row.id, version=row.version)
                theirs.commit()

    row = turnover.plan(db, settings, day)
    db.commit()
    meanwhile(monkeypatch, "vesk.actions.package._make_take", person)
    package.make(db, settings, row.id)
    assert handed_over(Path(row.folder)) == {"sound/A006_002.wav"}


@pytest.mark.parametrize("closed", ["folder", "report"])
def test_a_turnover_that_cannot_be_written_says_so_and_goes_on(db, settings, day, monkeypatch, closed):
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day)
    db.commit()

    def refuse(*_, **__):
        raise OSError(30, "Read-only file system")

    with monkeypatch.context() as disk:
        disk.setattr(Path, "mkdir", refuse) if closed == "folder" else disk.setattr(
            "vesk.dailies.report_lines.csv.DictWriter", refuse
        )
        with pytest.raises(StorageError, match="Read-only"):
            package.make(db, settings, row.id)
    assert row.state == "failed"
    assert "Read-only file system" in row.problem
    assert not Path(row.folder).exists()
    turnover.go_on(db, settings, row.id)
    package.make(db, settings, row.id)
    assert row.state == "done"


def test_names_that_look_like_formulas_reach_the_report_as_text(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    own = recording(db, day, "31A_01.wav")
    facts.put_right(db, settings, day, shown(own), field="scene", value="=HYPERLINK(1)")
    facts.put_right(db, settings, day, shown(own), field="take", value="-1+2")
    pairing.pair_day(db, day)
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    with (Path(row.folder) / "report.csv").open(encoding="utf-8", newline="") as file:
        line = next(line for line in csv.DictReader(file) if line["delivered"] == "yes")
    assert (line["scene"], line["take"]) == ("'=HYPERLINK(1)", "'-1+2")
    assert float(line["slip_frames"]) < 0  # a figure stays one


def test_a_link_swapped_in_after_intake_is_not_followed(db, settings, day, tmp_path):
    now = only(db, day, "A006_001.mov")
    outside = tmp_path / "elsewhere.wav"
    path = Path(day.folder, now.sound.path)
    path.rename(outside)
    path.symlink_to(outside)
    place = located(db, settings, day, now.sound)
    for open_it in (place.reader, lambda: measuring.measure_pairing(db, settings, now.pairing.id)):
        with pytest.raises(MediaError, match="leads out of the day's folder"):
            open_it()
    # A folder on the way may be swapped as well.
    path.unlink()
    outside.rename(path)
    path.parent.rename(tmp_path / "S1 moved")
    path.parent.symlink_to(tmp_path / "S1 moved")
    with pytest.raises(MediaError, match="leads out of the day's folder"):
        place.reader()


def test_two_files_with_equal_pieces_are_no_copies_and_share_nothing(db, settings, day):
    one = Path(day.folder, "S1 sound roll 6", "31A_01.wav")
    data = bytearray(one.read_bytes())
    at = 300_000
    data[at : at + 1000] = bytes(1000)
    other = one.with_name("31A_09.wav")
    other.write_bytes(data)
    same = one.with_name("31A_01 copy.wav")
    shutil.copy2(one, same)
    assert checksum.pieces(one) == checksum.pieces(other)
    intake.take_in(db, settings, day)
    pairing.pair_day(db, day)
    rows = {row.name: row for row in recordings.files_of_day(db, day.id)}
    assert rows["31A_01.wav"].content == rows["31A_01 copy.wav"].content != rows["31A_09.wav"].content
    doubled = [one.says for one in known_of_day(db, day).oddities if one.kind == "doubled file"]
    assert len(doubled) == 1
    assert "31A_01 copy.wav" in doubled[0]


def test_hundreds_of_files_of_one_size_are_each_looked_into_once(db, settings, day, monkeypatch):
    """Each with each, 400 of a card that records in parts of one size took longer to come in than to be listened to."""
    one = Path(day.folder, "S1 sound roll 6", "31A_01.wav")
    data = bytearray(one.read_bytes())
    for number in range(30):
        data[300_000] = number
        data[-1] = number
        one.with_name(f"40B_{number:02}.wav").write_bytes(data)
    opened = []
    pieces = checksum.pieces
    monkeypatch.setattr(checksum, "pieces", lambda path: opened.append(path) or pieces(path))
    intake.take_in(db, settings, day)
    assert len(opened) == len(set(opened)) >= 31


def test_an_unreadable_file_that_a_turnover_names_can_go_and_the_day_comes_in(db, settings, day):
    broken = Path(day.folder, "A006 main camera", "A006_099.mov")
    broken.write_bytes(b"not a movie at all")
    intake.take_in(db, settings, day)
    pairing.pair_day(db, day)
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    named = recording(db, day, "A006_099.mov").id
    assert any(one.picture_id == named for one in turnovers.deliveries(db, row.id))
    broken.unlink()
    for _ in range(2):
        intake.take_in(db, settings, day)
        db.commit()
        assert "A006_099.mov" not in {one.name for one in recordings.of_day(db, day.id)}
    assert recordings.get(db, named).name == "A006_099.mov"  # what the turnover names is there
    shutil.copy(Path(day.folder, "A006 main camera", "A006_001.mov"), broken)
    intake.take_in(db, settings, day)
    assert recording(db, day, "A006_099.mov").id == named


def test_a_source_with_a_report_and_a_stretch_is_merged_and_its_tag_used_again(db, settings):
    day = paper_day(db, {
        "A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00"), "S2/b.wav": sound("09:30:00:00"),
    })  # fmt: skip
    second = source(db, day, "S2")
    report = reports.take_up(db, settings, day, name="r.csv", text="file,scene\nb.wav,7\n", kind=ReportKind.SOUND)
    reports.name_columns(
        db, settings, report.id, version=1, mapping=dict(report.mapping), kind=ReportKind.SOUND, tag="S2"
    )
    clocks.choose_period(db, settings, second.id, version=1, since="09:00", before="10:00", clock="none")
    sources.merge(db, settings, second.id, version=2, into="S1")
    db.commit()
    assert [one.tag for one in days.sources(db, day.id)] == ["A", "S1"]
    assert kept_reports.get(db, report.id).source_id == source(db, day, "S1").id
    assert days.clock_periods(db, day.id) == {}
    assert sources.move(db, settings, day, shown(recording(db, day, "b.wav")), to_tag="S2") == 1
    assert source(db, day, "S2").id == second.id  # one row for one tag


def test_a_clock_changes_beside_a_pairing_that_was_set_aside_and_it_stays_so(db, settings):
    day = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")})
    pairing.pair_day(db, day)
    (row,) = pairings.of_day(db, day.id)
    correct.set_aside(db, settings, row.id, version=row.version, reason="wild")
    for clock in ("none", ""):
        own = source(db, day, "S1")
        clocks.choose_clock(db, settings, own.id, version=own.version, clock=clock)
        pairing.pair_day(db, day)
        db.commit()
        (kept,) = pairings.of_day(db, day.id)
        assert (kept.id, kept.state, kept.reason) == (row.id, "set aside", "wild")


def test_a_pairing_that_clocks_no_longer_propose_is_withdrawn_and_comes_back(db, settings):
    day = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")})
    pairing.pair_day(db, day)
    (row,) = pairings.of_day(db, day.id)
    journal.note(db, day_id=day.id, by="me", what="looked at it", pairing_id=row.id)
    own = source(db, day, "S1")
    clocks.choose_clock(db, settings, own.id, version=own.version, clock="none")
    pairing.pair_day(db, day)
    assert pairings.of_day(db, day.id) == []
    clocks.choose_clock(db, settings, own.id, version=own.version, clock="")
    pairing.pair_day(db, day)
    (back,) = pairings.of_day(db, day.id)
    assert (back.id, back.state, back.offset) == (row.id, "proposed", Fraction(-2))


def test_what_vesk_does_by_itself_is_signed_so(db, settings, day):
    lines = [(row.by, row.what) for row in journal.of_day(db, day.id)]
    assert {by for by, what in lines if what.startswith(("paired by timecode", "took in"))} == {"Vesk"}
    assert {by for by, what in lines if what.startswith("named shoot day")} == {"test editor"}


def test_a_short_silent_recording_is_looked_at_once(db, settings, afternoon, tmp_path):
    """Its head and its tail are one stretch: a clap between them would be proposed twice."""
    path = next(afternoon.folder.rglob("D001_001.mov"))
    place = measuring.Located(path, measuring.bordered(path, _facts, path), _nowhere(tmp_path))
    assert place.facts.channels == 0
    found = sync_points_of(place)
    frames = [one.frame for one in found.seen]
    assert len(frames) == len(set(frames))
    assert all(abs(a - b) > 1 for n, a in enumerate(frames) for b in frames[:n])


def _facts(path):
    from vesk.media.probe import read_facts

    return read_facts(path)


def _nowhere(tmp_path):
    from vesk.media import cache

    return cache.entry_of(tmp_path, "w0")


def test_a_damaged_recording_costs_only_itself_in_a_search(db, settings, tmp_path):
    """One that cannot be read to its end is passed over; the others are searched all the same."""
    import soundfile

    from vesk.dailies.located import locate
    from vesk.dailies.searching import find_partners

    noise = (np.random.default_rng(3).standard_normal(48_000 * 12) * 0.1).astype(np.float32)
    for name, part in (("one.wav", noise), ("two.wav", noise[24_000:]), ("bad.flac", noise)):
        soundfile.write(tmp_path / name, part, 48_000)
    data = bytearray((tmp_path / "bad.flac").read_bytes())
    data[len(data) // 3 :] = os.urandom(len(data) - len(data) // 3)
    (tmp_path / "bad.flac").write_bytes(data)
    places = {name: locate(tmp_path / name, tmp_path / "cache") for name in ("one.wav", "two.wav", "bad.flac")}
    assert find_partners("one", places.pop("one.wav"), places) is not None


def test_deliveries_of_one_picture_are_one_row(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id, lambda _done, _total: False)
    turnover.go_on(db, settings, row.id)
    package.make(db, settings, row.id)
    held = turnovers.deliveries(db, row.id)
    assert len({one.picture_id for one in held}) == len(held)
    assert isinstance(held[0], Delivery)


def test_runs_taken_apart_and_proposals_of_claps_never_meet_a_row_that_is_gone(db, settings):
    """A clap's row belongs to a recording that stays, whatever becomes of its run."""
    day = paper_day(db, {f"E/clip{n:04}.mov": picture("", 600, channels=0) for n in (1, 2)})
    run = merging.merge_by_hand(db, settings, day, shown(*recordings.files_of_day(db, day.id)), "run")
    db.add(SyncPointRow(recording_id=run.id, how="seen", kind="clap", frame=3, likely=2.0))
    merging.take_apart(db, settings, run.id, version=run.version)
    db.commit()
    assert points.of_recordings(db, [run.id])[run.id][0].frame == 3
