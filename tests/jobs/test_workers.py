"""Real workers on a real queue: the whole chain, a worker that is killed, work that is stopped."""

import shutil
import threading
import time
from dataclasses import replace

import pytest
from tests.conftest import SHORT, end, make_shoot, name_ferry, named_day, until, workers
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import gathering, intake
from vesk.core.kinds import Work
from vesk.jobs.asking import ask
from vesk.jobs.queue import SOON, enqueue
from vesk.jobs.tasks import ask_intake, ask_listen, ask_measure
from vesk.media import cache
from vesk.store import days, pairings, progress, recordings
from vesk.store.session import open_session


@pytest.fixture
def day(db, settings, ferry, tmp_path):
    folder = tmp_path / "media"
    shutil.copytree(ferry.folder, folder, ignore=shutil.ignore_patterns("B004*", "3[2346]*", "A006_00[34567]*"))
    return name_ferry(db, settings, folder)


@pytest.fixture
def paper(db):
    return paper_day(db, {
        "A/a.mov": picture("09:00:00:00"), "A/b.mov": picture("09:01:00:00"), "S1/c.wav": sound("08:59:58:00"),
    })  # fmt: skip


def states(settings, day):
    with open_session(settings.sqlalchemy_url) as fresh:
        return {(row.kind, row.subject_id): row.state for row in progress.of_day(fresh, day.id)}


def test_a_killed_workers_job_is_taken_up_again(db, settings, day):
    # Nothing kept from other tests: listening must take long enough to be killed in.
    settings.cache.unlink()
    settings.cache.mkdir()
    ask_intake(db, day.id)
    db.commit()
    first = workers(settings)
    try:
        until(
            lambda: any(kind == "listen" and state == "running" for (kind, _), state in states(settings, day).items())
        )
        first[0].kill()
        first[0].wait()
        left = states(settings, day)
        assert any(state in {"running", "waiting"} for state in left.values())
        second = workers(settings)
        try:
            until(lambda: set(states(settings, day).values()) == {"done"}, 60, "the killed worker's job")
        finally:
            end(second)
    finally:
        end(first)
    with open_session(settings.sqlalchemy_url) as fresh:
        found = gathering.of_day(fresh, day)
        assert {now.picture.name: now.state for now in found} == {
            "A006_001.mov": "measured",
            "A006_002.mov": "measured",
        }
        assert all(abs(now.errors.head_s * 25 - 0.31) < 0.01 for now in found)


def test_a_first_take_is_measured_while_others_are_still_listened_to(db, settings, day):
    ask_intake(db, day.id)
    db.commit()
    running = workers(settings)
    try:
        until(lambda: len(found := states(settings, day)) > 9 and set(found.values()) == {"done"}, 60, "the day")
    finally:
        end(running)
    with open_session(settings.sqlalchemy_url) as fresh:
        when = {}
        for row in progress.of_day(fresh, day.id):
            when.setdefault(row.kind, []).append(row.changed_at)
        assert min(when["measure"]) < max(when["listen"])
        assert all(now.errors is not None for now in gathering.of_day(fresh, day))


def test_work_that_was_asked_to_stop_does_not_begin(db, settings, day):
    ask_intake(db, day.id)
    assert progress.stop_open(db, day.id) == 1
    db.commit()
    running = workers(settings)
    try:
        until(lambda: set(states(settings, day).values()) == {"stopped"}, 30, "stopping")
    finally:
        end(running)
    assert gathering.of_day(db, day) == []


def test_a_job_and_the_row_it_works_on_are_written_together(db, settings, day):
    ask_intake(db, day.id)
    enqueue(db, "vesk:intake", lock="other", day_id=day.id)  # waits already: asked once
    assert db.connection().exec_driver_sql("SELECT count(*) FROM procrastinate_jobs").scalar() == 1
    db.rollback()
    assert db.connection().exec_driver_sql("SELECT count(*) FROM procrastinate_jobs").scalar() == 0
    assert states(settings, day) == {}


def test_work_for_many_is_asked_for_in_one_go_in_order_and_what_waits_already_once(db, settings, paper):
    queued = "SELECT (args ->> 'recording_id')::int FROM procrastinate_jobs ORDER BY id"
    rows = [recording(db, paper, name) for name in ("a.mov", "b.mov", "c.wav")]
    ask(db, paper.id, Work.LISTEN, {rows[1].id: "listening to b"}, priority=SOON)
    db.commit()
    ask(db, paper.id, Work.LISTEN, {row.id: f"listening to {row.name}" for row in reversed(rows)}, priority=SOON)
    assert list(db.connection().exec_driver_sql(queued).scalars()) == [rows[1].id, rows[2].id, rows[0].id]
    # Somebody else asks for one of them at the same moment: that one waits already, the others come in.
    db.rollback()
    with open_session(settings.sqlalchemy_url) as other:
        ask(other, paper.id, Work.LISTEN, {rows[0].id: "listening to a"}, priority=SOON)
        both = threading.Thread(
            target=lambda: ask(db, paper.id, Work.LISTEN, {row.id: row.name for row in rows}, priority=SOON)
        )
        both.start()
        time.sleep(0.3)
        other.commit()
        both.join(20)
    assert sorted(db.connection().exec_driver_sql(queued).scalars()) == sorted(row.id for row in rows)
    assert {row.what for row in progress.of_day(db, paper.id)} == {"a.mov", "b.mov", "c.wav"}


def test_what_one_device_cannot_have_recorded_is_listened_to_after_what_it_can(db):
    day = paper_day(db, {
        "A/a.mov": picture("09:30:00:00", 20), "S1/b.wav": sound("09:29:58:00"), "S1/c.wav": sound(None),
        "X/d.mov": picture("09:00:00:00", 20), "X/g.mov": picture("09:50:00:00"),
        "X/e.mov": picture("09:00:02:00", 20), "A/f.mov": picture("10:00:00:00"),
    })  # fmt: skip
    for row in recordings.of_day(db, day.id):
        row.start = row.facts.span("", "", "", days.rate_of(day)).start_on(days.rate_of(day))
    told = [row.name for row in intake.listening_order(db, day)]
    assert told == ["b.wav", "a.mov", "f.mov", "c.wav", "d.mov", "e.mov", "g.mov"]  # c has no clock


def test_a_scratch_with_a_hole_is_laid_by_its_stamps_and_measured_again_where_that_was_not_known(
    db, settings, tmp_path
):
    text = SHORT.format(rate="25", jam="07:30:00", start="10:00:01:00")
    shoot = make_shoot(text.replace("to = 9.0 }", "to = 9.0, loses = [[3.4, 0.5]] }"), tmp_path)
    day = named_day(db, settings, shoot.folder)
    ask_intake(db, day.id)
    db.commit()

    def measured():
        with open_session(settings.sqlalchemy_url) as fresh:
            (row,) = pairings.of_day(fresh, day.id)
            return row.measured_as, row.measurement

    running = workers(settings)
    try:
        until(lambda: measured()[0] if pairings.of_day(db, day.id) else db.rollback(), 60, "measuring")
        first, found = measured()
        (truth,) = shoot.truth["pairs"]
        assert not found.line.jumps
        assert found.line.offset_at(8.0) == pytest.approx(truth["heard_offset_s"], abs=1e-4)
        db.expire_all()
        scratch = next(row for row in recordings.of_day(db, day.id) if row.kind == "picture")
        assert [round(hole.seconds, 1) for hole in scratch.heard.holes] == [0.5]
        # As an earlier version left it.
        scratch.heard = replace(scratch.heard, holes=())
        db.add(scratch)
        cache.entry_of(settings.cache, scratch.content).done.unlink()
        ask_listen(db, scratch)
        db.commit()
        until(lambda: measured()[0] != first, 60, "measuring again")
    finally:
        end(running)


def test_a_file_that_vanished_ends_its_job_with_a_sentence(db, settings, day, tmp_path):
    from vesk.actions import pairing

    intake.take_in(db, settings, day)
    (first, _) = pairing.pair_day(db, day)
    db.commit()
    settings.cache.unlink()  # the run's, which others work with
    settings.cache.mkdir()
    next((tmp_path / "media").rglob("A006_001.mov")).unlink()
    ask_measure(db, first)
    db.commit()
    running = workers(settings)
    try:
        until(lambda: set(states(settings, day).values()) == {"failed"}, 30, "failing")
    finally:
        end(running)
    with open_session(settings.sqlalchemy_url) as fresh:
        (row,) = progress.of_day(fresh, day.id)
        assert "A006_001.mov" in row.problem
