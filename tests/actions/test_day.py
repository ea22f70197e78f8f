"""A day in the database: intake, pairing, corrections, checks, turnover; and what goes wrong."""

import csv
import shutil
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.conftest import handed_over, name_ferry

from vesk.actions import correct, gathering, intake, measuring, package, pairing, sources, turnover
from vesk.core.errors import MediaError, RefusedError, StaleError, StorageError
from vesk.core.kinds import Kind
from vesk.store import journal, pairings, recordings, turnovers
from vesk.store.tables import Source


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    """Return the first two takes of A and what goes wrong beside them, taken in and paired."""
    folder = tmp_path / "media"
    shutil.copytree(ferry.folder, folder, ignore=shutil.ignore_patterns("B004_00[12]*", "3[2346]*", "A006_00[3457]*"))
    (folder / "S1 sound roll 6" / "empty.wav").touch()
    (folder / "notes.bin").write_bytes(b"not media")
    named = name_ferry(db, settings, folder)
    intake.take_in(db, settings, named)
    pairing.pair_day(db, named)
    db.commit()
    return named


def only(db, day, picture):
    return next(now for now in gathering.of_day(db, day) if now.picture.name == picture)


def measured(db, settings, day, picture):
    now = only(db, day, picture)
    measuring.measure_pairing(db, settings, now.pairing.id)
    db.commit()
    return only(db, day, picture)


def test_intake_lists_what_cannot_be_read_and_takes_the_rest(db, day):
    rows = {row.name: row for row in recordings.of_day(db, day.id)}
    assert {name for name, row in rows.items() if row.state == "ready"} == {
        "A006_001.mov", "A006_002.mov", "A006_006.mov", "31A_01.wav", "31A_02.wav", "WT01_01.wav",
    }  # fmt: skip
    assert "is empty" in rows["empty.wav"].problem
    assert "neither a movie nor a sound file" in rows["notes.bin"].problem
    assert "B004_003.mov: it cannot be read" in rows["B004_003.mov"].problem
    assert "no recorder was rolling" in rows["A006_006.mov"].unpaired
    assert rows["A006_001.mov"].start == 9 * 3600 + 12 * 60 + 6


def test_the_walk_of_a_pairing_and_its_undo(db, settings, day):
    now = measured(db, settings, day, "A006_001.mov")
    assert now.state == "measured"
    assert now.verdict.cause == "sub-frame slip"
    assert now.errors.head_s * 25 == pytest.approx(0.31, abs=0.01)
    pid = now.pairing.id
    correct.take_proposal(db, settings, pid, version=now.pairing.version)
    now = only(db, day, "A006_001.mov")
    assert now.state == "corrected"
    assert now.verdict.holds
    assert max(abs(e) for e in now.errors.all) < 0.001
    correct.check(db, settings, pid, version=now.pairing.version)
    assert only(db, day, "A006_001.mov").state == "checked"
    # A correction after the check takes the check away.
    now = only(db, day, "A006_001.mov")
    correct.set_own(db, settings, pid, version=now.pairing.version, slip=Fraction(1, 25))
    now = only(db, day, "A006_001.mov")
    assert now.state == "corrected"
    assert now.errors.head_s * 25 == pytest.approx(1.31, abs=0.01)
    correct.undo(db, settings, pid, version=now.pairing.version)
    now = only(db, day, "A006_001.mov")
    assert now.state == "checked"
    assert correct.undo(db, settings, pid, version=now.pairing.version) == "check undone"
    assert correct.undo(db, settings, pid, version=only(db, day, "A006_001.mov").pairing.version) == "correction undone"
    assert only(db, day, "A006_001.mov").state == "measured"
    with pytest.raises(RefusedError, match="nothing to undo"):
        correct.undo(db, settings, pid, version=only(db, day, "A006_001.mov").pairing.version)
    assert len(pairings.history(db, pid)) == 2  # undone, never deleted
    assert any("checked (left at head" in line.what for line in journal.of_day(db, day.id))


def test_a_change_on_stale_data_is_refused(db, settings, day):
    now = measured(db, settings, day, "A006_001.mov")
    seen = now.pairing.version
    correct.take_proposal(db, settings, now.pairing.id, version=seen)
    with pytest.raises(StaleError, match="Somebody else changed this pairing"):
        correct.set_own(db, settings, now.pairing.id, version=seen, slip=Fraction(1))
    assert len(pairings.history(db, now.pairing.id)) == 1


def test_what_cannot_be_is_refused_and_nothing_is_kept(db, settings, day):
    now = only(db, day, "A006_001.mov")
    with pytest.raises(RefusedError, match="Nothing is proposed"):
        correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    with pytest.raises(RefusedError, match="ppm"):
        correct.set_own(db, settings, now.pairing.id, version=now.pairing.version, slip=Fraction(0), ppm=Fraction(9999))
    with pytest.raises(RefusedError, match="Say why"):
        correct.set_aside(db, settings, now.pairing.id, version=now.pairing.version, reason=" ")
    assert pairings.history(db, now.pairing.id) == []


def test_a_microphone_moved_changes_every_pairing_of_its_source(db, settings, day):
    now = measured(db, settings, day, "A006_001.mov")
    before = now.errors.head_s
    source = db.get(Source, now.picture_source.id)
    sources.describe(
        db, settings, source.id, version=source.version, name="A", distance_m=Fraction("5.43"), delay_ms=Fraction(0)
    )
    moved = only(db, day, "A006_001.mov")
    # 3.43 m further away hears 10 ms later: what sounded late was less late than that.
    assert moved.errors.head_s - before == pytest.approx(0.010, abs=1e-6)
    with pytest.raises(StaleError):
        sources.describe(db, settings, source.id, version=1, name="A", distance_m=Fraction(1), delay_ms=Fraction(0))


def test_taking_in_again_keeps_what_was_decided_and_notices_what_vanished(db, settings, day):
    now = measured(db, settings, day, "A006_001.mov")
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    folder = Path(day.folder)
    (folder / "S1 sound roll 6" / "31A_02.wav").rename(folder.parent / "31A_02.wav")
    result = intake.take_in(db, settings, day)
    pairing.pair_day(db, day)
    assert result.vanished == 1
    rows = {row.name: row for row in recordings.of_day(db, day.id)}
    assert "31A_02.wav: it was here before and is gone" in rows["31A_02.wav"].problem
    again = only(db, day, "A006_001.mov")
    assert (again.state, again.pairing.id) == ("corrected", now.pairing.id)
    (folder.parent / "31A_02.wav").rename(folder / "S1 sound roll 6" / "31A_02.wav")
    assert intake.take_in(db, settings, day).vanished == 0
    pairing.pair_day(db, day)
    assert only(db, day, "A006_002.mov").sound.name == "31A_02.wav"


def checked(db, settings, day, picture):
    now = measured(db, settings, day, picture)
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    now = only(db, day, picture)
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()


def test_one_take_that_fails_costs_only_itself(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    checked(db, settings, day, "A006_002.mov")
    Path(day.folder, "S1 sound roll 6", "31A_02.wav").unlink()
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    made = {recordings.get(db, item.picture_id).name: item for item in turnovers.deliveries(db, row.id)}
    assert made["A006_001.mov"].name == "sound/A006_001.wav"
    assert max(abs(e) for e in made["A006_001.mov"].written.residual_s) < 0.001
    assert "31A_02.wav: it is not there any more" in made["A006_002.mov"].reason
    with (Path(row.folder) / "report.csv").open(encoding="utf-8", newline="") as file:
        report = {Path(line["picture"]).name: line for line in csv.DictReader(file)}
    assert report["A006_001.mov"]["checked_by"] == "test editor"
    assert abs(float(report["A006_001.mov"]["residual_tail_ms"])) < 1
    assert "not there any more" in report["A006_002.mov"]["reason"]
    assert "no recorder was rolling" in report["A006_006.mov"]["reason"]
    assert only(db, day, "A006_002.mov").state == "checked"


def test_where_the_sound_is_the_truth_it_is_handed_over_as_recorded_and_the_picture_s_rate_is_said(db, settings, day):
    now = measured(db, settings, day, "A006_001.mov")
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    slip = only(db, day, "A006_001.mov").as_corrected.slip
    version = only(db, day, "A006_001.mov").pairing.version
    ppm = Fraction(500)
    correct.set_own(db, settings, now.pairing.id, version=version, slip=slip, ppm=ppm, retimed=Kind.PICTURE)
    now = only(db, day, "A006_001.mov")
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    db.commit()
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    made = {recordings.get(db, item.picture_id).name: item for item in turnovers.deliveries(db, row.id)}
    written = made["A006_001.mov"].written
    assert written.samples == round(now.picture.duration * (1 + ppm / 10**6) * 48_000)
    with (Path(row.folder) / "report.csv").open(encoding="utf-8", newline="") as file:
        (line,) = [one for one in csv.DictReader(file) if one["picture"].endswith("A006_001.mov")]
    assert line["retimed"] == "picture"
    assert Fraction(line["picture_rate"]) == 25 / (1 + ppm / 10**6)
    assert line["found"] != line["cause"]
    assert line["placed_by"] == "sound"
    recorded, _ = soundfile.read(Path(day.folder, now.sound.path), dtype="int32", always_2d=True)
    handed, _ = soundfile.read(Path(row.folder) / written.name, dtype="int32", always_2d=True)
    late = now.timed_as.laid.offset * 48_000  # a whole sample is not asked of a slip that was measured
    for begin in (4800, written.samples - 9600):  # not resampled: as recorded, but for a sample, from head to tail
        at = round(begin - late)
        own = handed[begin : begin + 4800, 0].astype(float), recorded[at : at + 4800, 0]
        assert np.corrcoef(*own)[0, 1] > 0.9
    # Measured again: by the rate at which the picture plays, what is left is what a rate of 500 ppm was wrong by.
    head, _, tail = written.residual_s
    heard = now.found.line.ppm
    assert (tail - head) * 1e6 / (now.points[2] - now.points[0]) == pytest.approx(heard - 500, abs=20)


def test_a_full_disk_loses_no_decision(db, settings, day, monkeypatch):
    checked(db, settings, day, "A006_001.mov")

    def full(*_, **__):
        raise OSError(28, "No space left on device")

    row = turnover.plan(db, settings, day)
    db.commit()
    with monkeypatch.context() as disk:
        disk.setattr("vesk.media.wave.os.fsync", full)
        with pytest.raises(StorageError, match="No space left"):
            package.make(db, settings, row.id)
    # It says so and why, nothing in it looks finished, and it goes on where it ended.
    assert (row.state, "No space left on device" in row.problem) == ("failed", True)
    assert not Path(row.folder).exists()
    assert [one.name for one in package.place_of(settings, row).rglob("*") if one.is_file()] == ["UNFINISHED.txt"]
    assert only(db, day, "A006_001.mov").state == "checked"
    turnover.go_on(db, settings, row.id)
    with pytest.raises(StaleError, match="being made already"):
        turnover.plan(db, settings, day)
    package.make(db, settings, row.id)
    assert row.state == "done"
    assert handed_over(Path(row.folder)) == {"sound/A006_001.wav"}


def test_a_turnover_that_is_stopped_says_what_it_left_out(db, settings, day):
    checked(db, settings, day, "A006_001.mov")
    row = turnover.plan(db, settings, day)
    package.make(db, settings, row.id, lambda _done, _total: False)
    assert row.state == "stopped"
    assert not Path(row.folder).exists()
    assert any(item.reason == "stopped before its turn" for item in turnovers.deliveries(db, row.id))


def test_folders_outside_the_allowed_roots_are_refused(db, settings, tmp_path):
    outside = tmp_path / "elsewhere"
    outside.mkdir()
    settings.media_roots[0].mkdir()
    (settings.media_roots[0] / "way out").symlink_to(outside)
    for folder in (outside, settings.media_roots[0] / "way out", settings.media_roots[0] / ".." / "elsewhere"):
        with pytest.raises(MediaError, match="outside the folders Vesk may read"):
            name_ferry(db, settings, folder)


def test_a_link_that_leaves_the_folder_is_not_followed(db, settings, ferry, tmp_path):
    media = tmp_path / "media" / "A006 main camera"
    media.mkdir(parents=True)
    (media / "A006_009.mov").symlink_to(next(ferry.folder.rglob("A006_001.mov")))
    named = name_ferry(db, settings, tmp_path / "media")
    intake.take_in(db, settings, named)
    (row,) = recordings.of_day(db, named.id)
    assert (row.state, "leads out of the folder" in row.problem) == ("unreadable", True)


def test_a_folder_that_cannot_be_read_is_named_and_the_rest_comes_in(db, settings, day, monkeypatch):
    import os

    locked = Path(day.folder, "A006 main camera")
    scandir = os.scandir

    def refuse(path):
        if Path(path) == locked:
            raise PermissionError(13, "Permission denied", str(path))
        return scandir(path)

    monkeypatch.setattr(os, "scandir", refuse)  # root, who runs the tests, is refused nothing
    result = intake.take_in(db, settings, day)
    rows = {row.path: row for row in recordings.of_day(db, day.id)}
    assert "this folder cannot be read (Permission denied)" in rows["A006 main camera"].problem
    assert rows["S1 sound roll 6/31A_01.wav"].state == "ready"
    assert result.vanished == 3  # its files are kept in mind, not forgotten
