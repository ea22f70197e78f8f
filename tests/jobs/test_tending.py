"""The queue stays honest: a database that hiccups, jobs that kill, work whose job is gone."""

import asyncio
import shutil
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from types import SimpleNamespace

import psycopg
import pytest
from tests.conftest import end, name_ferry, until, workers
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import turnover
from vesk.core.kinds import Work
from vesk.jobs import tending
from vesk.jobs import tracked as tracked_module
from vesk.jobs.asking import TRACKED
from vesk.jobs.tasks import ask_intake, ask_light, ask_turnover
from vesk.jobs.worker import _Watch
from vesk.store import health, machines, presence, progress, turnovers
from vesk.store.columns import now
from vesk.store.machines import WorkerSeen
from vesk.store.presence import Presence
from vesk.store.session import open_session


@pytest.fixture
def paper(db):
    return paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/b.wav": sound("08:59:58:00")})


def tend(settings):
    async def once():
        async with await psycopg.AsyncConnection.connect(settings.database_url) as connection:
            await tending.tend(connection)

    alone(once())


def alone(work):
    """Run a coroutine in a thread of its own: the browser's tests leave a loop in this one."""
    with ThreadPoolExecutor(1) as thread:
        thread.submit(asyncio.run, work).result()


def jobs(settings, statement, *values):
    with psycopg.connect(settings.database_url, autocommit=True) as connection:
        cursor = connection.execute(statement, values)
        return cursor.fetchall() if cursor.description else []


def told(settings, kind, subject):
    with open_session(settings.sqlalchemy_url) as fresh:
        row = progress.find(fresh, kind, subject)
        return row.state, row.problem


def test_a_job_that_kills_its_worker_is_set_aside_by_name_and_the_rest_goes_on(db, settings, paper):
    from vesk.jobs.tasks import ask_listen

    for name in ("a.mov", "b.wav"):
        ask_listen(db, recording(db, paper, name))
    db.commit()
    worst = recording(db, paper, "a.mov").id
    for attempt in range(tending.MOST_TRIES):
        # Taken by a worker that is no more.
        jobs(
            settings,
            "UPDATE procrastinate_jobs SET status = 'doing' WHERE task_name = 'vesk:listen'"
            " AND args->>'recording_id' = %s",
            str(worst),
        )
        if attempt < tending.MOST_TRIES - 1:
            tend(settings)
            assert told(settings, "listen", worst)[0] == "waiting"  # tried again
    tend(settings)
    state, problem = told(settings, "listen", worst)
    assert state == "failed"
    assert "ended the worker that did it, 4 times" in problem
    with open_session(settings.sqlalchemy_url) as fresh:
        assert "a.mov" in progress.find(fresh, "listen", worst).what
    assert told(settings, "listen", recording(db, paper, "b.wav").id)[0] == "waiting"
    todo = "SELECT task_name FROM procrastinate_jobs WHERE status = 'todo' AND args->>'recording_id' = %s"
    assert jobs(settings, todo, str(worst)) == []


def test_a_dead_workers_job_that_was_asked_for_again_is_done_once(db, settings, paper):
    """It cannot wait beside its twin: it gives way, and the tending goes on."""
    ask_intake(db, paper.id)
    db.commit()
    jobs(settings, "UPDATE procrastinate_jobs SET status = 'doing'")
    ask_intake(db, paper.id)
    db.commit()
    tend(settings)
    assert jobs(settings, "SELECT status::text FROM procrastinate_jobs") == [("todo",)]
    assert told(settings, "intake", paper.id) == ("waiting", "")


def test_a_clock_that_was_set_back_an_hour_hides_no_dead_worker_and_holds_nothing_up(db, settings, paper):
    """What was written before then lies an hour ahead: a dead worker's heartbeat, what comes again, who was here."""
    ask_intake(db, paper.id)
    db.add(Presence(tab="tab-of-ida", day_id=paper.id, person="Ida", page="Day", seen_at=now() + timedelta(hours=1)))
    db.add(WorkerSeen(name="far-worker-1", host="far", seen_at=now() + timedelta(hours=1)))
    db.commit()
    (number,) = jobs(
        settings,
        "INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() + interval '1 hour') RETURNING id",
    )[0]
    jobs(settings, "UPDATE procrastinate_jobs SET status = 'doing', worker_id = %s", number)
    for ahead in (3600, 0):
        jobs(
            settings,
            "INSERT INTO procrastinate_periodic_defers (task_name, defer_timestamp, periodic_id)"
            " VALUES ('watch', extract(epoch FROM now())::bigint + %s, '')",
            ahead,
        )
    assert (machines.at_work(db), presence.others(db, paper.id, "another-tab")) == ({}, [])
    assert health.queue(db).workers == 0
    tend(settings)
    assert jobs(settings, "SELECT status::text FROM procrastinate_jobs") == [("todo",)]
    assert jobs(settings, "SELECT count(*) FROM procrastinate_periodic_defers") == [(1,)]


def test_work_of_every_kind_that_waits_for_long_is_not_taken_for_lost(db, settings, paper):
    ask_light(db, recording(db, paper, "a.mov"))
    db.commit()
    assert {*TRACKED} == {*Work}
    jobs(settings, "UPDATE progress SET changed_at = now() - interval '1 hour'")
    tend(settings)
    assert told(settings, Work.LIGHT, recording(db, paper, "a.mov").id) == ("waiting", "")


def test_work_whose_job_is_gone_is_told_and_never_runs_for_ever(db, settings, paper):
    ask_intake(db, paper.id)
    row = ask_turnover(db, settings, paper)
    db.commit()
    tend(settings)
    assert told(settings, "intake", paper.id) == ("waiting", "")  # it has its job
    jobs(settings, "DELETE FROM procrastinate_jobs")
    tend(settings)
    assert told(settings, "intake", paper.id)[0] == "waiting"  # it may have ended this very moment
    jobs(settings, "UPDATE progress SET changed_at = now() - interval '1 minute', state = 'running'")
    jobs(settings, "UPDATE turnover SET state = 'running'")
    tend(settings)
    state, problem = told(settings, "intake", paper.id)
    assert (state, "was lost with its worker" in problem) == ("failed", True)
    db.expire_all()
    assert (turnovers.get(db, row.id).state, turnovers.get(db, row.id).problem) == ("failed", problem)
    turnover.go_on(db, settings, row.id)  # and it can go on


def test_a_worker_whose_connection_broke_takes_its_job_up_again(db, settings, ferry, tmp_path):
    folder = tmp_path / "media"
    others = shutil.ignore_patterns("B004*", "3[2346]*", "A006_00[234567]*", "31A_02*", "WT*")
    shutil.copytree(ferry.folder, folder, ignore=others)
    day = name_ferry(db, settings, folder)
    settings.cache.unlink()
    settings.cache.mkdir()
    ask_intake(db, day.id)
    db.commit()
    db.close()

    def states():
        with open_session(settings.sqlalchemy_url) as fresh:
            return {(row.kind, row.subject_id): row.state for row in progress.of_day(fresh, day.id)}

    running = workers(settings)
    try:
        until(lambda: "listen" in {kind for (kind, _), state in states().items() if state == "running"}, 60)
        jobs(
            settings,
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database()"
            " AND pid <> pg_backend_pid()",
        )
        for _ in range(2):  # its supervisor starts it again
            if running[0].poll() is not None:
                running = workers(settings)
            try:
                until(lambda own=running[0]: own.poll() is not None or set(states().values()) == {"done"}, 60)
            except AssertionError:
                break
            if set(states().values()) == {"done"}:
                break
        assert set(states().values()) == {"done"}, states()
    finally:
        end(running)


def test_a_worker_that_the_queue_forgot_ends_itself(settings, database, monkeypatch):
    """Its row was pruned, so its job would be done twice: it leaves, and says to be started again."""
    left = []
    monkeypatch.setattr("vesk.jobs.worker.os._exit", left.append)

    watch = _Watch("host-worker-1")
    still = SimpleNamespace(is_set=lambda: False)
    watch.worker = SimpleNamespace(worker_id=4711, _running_jobs={}, _stop_event=still)
    alone(watch.look(settings))
    assert left == []  # once may be a race
    alone(watch.look(settings))
    assert left == [75]


def test_a_worker_that_was_cut_off_says_nothing_of_what_another_did_meanwhile(db, settings, paper, monkeypatch):
    ask_intake(db, paper.id)
    db.commit()
    clock = SimpleNamespace(now=100.0)
    monkeypatch.setattr(tracked_module.time, "monotonic", lambda: clock.now)
    for away, left in ((1.0, "running"), (60.0, "done")):
        jobs(settings, "UPDATE progress SET state = 'waiting', stop = false")
        with tracked_module.tracked(settings, Work.INTAKE, paper.id) as (_, on_progress):
            assert on_progress(1, 2)
            assert told(settings, "intake", paper.id)[0] == "running"
            jobs(settings, "UPDATE progress SET state = 'done'")
            clock.now += away
            assert on_progress(2, 2)
            assert told(settings, "intake", paper.id)[0] == left
    assert told(settings, "intake", paper.id)[0] == "done"
