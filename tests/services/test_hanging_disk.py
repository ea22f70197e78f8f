"""A mount that stops answering in the middle of a day, for real: pages go on, and the day is whole afterwards."""

import threading
import time
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from urllib.error import HTTPError

import pytest
from tests.conftest import SHORT, end, make_shoot, named_day, until, workers
from tests.hanging_mount import mounted

from vesk.actions import gathering
from vesk.core.errors import SilentError
from vesk.core.kinds import Work, WorkState
from vesk.jobs.tasks import ask_intake
from vesk.media import probe
from vesk.media.guarded import guarded, guarded_each
from vesk.store import progress, recordings
from vesk.store.session import open_session

TWO = SHORT.format(rate="25", jam="07:30:00", start="10:00:01:00").replace("length = 9", "length = 20")


def asked(address):
    """Return how a page answered, and how long that took."""
    begun = time.monotonic()
    try:
        with urllib.request.urlopen(address, timeout=30) as answer:
            return answer.status, answer.read().decode("utf-8", "replace"), time.monotonic() - begun
    except HTTPError as error:
        return error.code, error.read().decode("utf-8", "replace"), time.monotonic() - begun


@pytest.fixture
def disk(tmp_path):
    """A folder with a take, on a mount that can be made to hang: the folder, and what holds it."""
    (tmp_path / "far").mkdir()
    shoot = make_shoot(TWO, tmp_path / "far")
    try:
        mount = mounted(shoot.folder, tmp_path / "media")
        held = mount.__enter__()
    except PermissionError as error:
        pytest.skip(f"nobody may mount here: {error}")
    try:
        yield tmp_path / "media", held
    finally:
        mount.__exit__(None, None, None)


def test_a_mount_that_hangs_costs_a_workers_job_and_no_page_and_the_day_is_whole_when_it_answers(
    db, settings, serve, disk
):
    folder, held = disk
    running = []
    try:
        day = named_day(db, settings, folder)
        ask_intake(db, day.id)
        db.commit()
        address = serve()
        running = workers(settings)
        until(lambda: states(settings, day.id, Work.INTAKE) == {WorkState.DONE}, 60, "the intake")
        held.hang()
        with open_session(settings.sqlalchemy_url) as fresh:
            film = next(row.id for row in recordings.ready_of_day(fresh, day.id) if row.kind == "picture")
        with ThreadPoolExecutor(12) as people:
            stuck = [people.submit(asked, f"{address}/media/{film}/frame/{n}.jpg") for n in range(8)]
            chosen = people.submit(asked, f"{address}/new/folders?folder={folder}")
            others = [
                asked(f"{address}/{page}")
                for page in ("home", f"days/{day.id}", f"days/{day.id}/intake", f"days/{day.id}/clocks")
            ]
            told = [one.result(60) for one in stuck]
        assert [status for status, _, _ in others] == [200] * 4
        assert max(took for _, _, took in others) < 4
        assert all(status == 503 and "does not answer" in text for status, text, _ in told), told
        assert "does not answer" in chosen.result()[1]
        assert max(took for _, _, took in [*told, chosen.result()]) < 15
        assert WorkState.RUNNING in states(settings, day.id, Work.LISTEN)
        assert not states(settings, day.id) & {WorkState.FAILED}
        held.answer()
        until(lambda: states(settings, day.id) == {WorkState.DONE}, 90, "the day")
        with open_session(settings.sqlalchemy_url) as fresh:
            (now,) = gathering.of_day(fresh, day)
            assert now.state == "measured"
        assert asked(f"{address}/media/{film}/frame/1.jpg")[0] == 200
    finally:
        held.answer()
        end(running)


def test_what_takes_too_long_because_the_disk_hangs_is_read_when_it_answers_and_is_not_called_damaged(disk):
    folder, held = disk
    paths = sorted(path for path in folder.rglob("*") if path.suffix in {".mov", ".wav"})
    guarded_each(paths, 30.0, probe.read_facts)  # the processes are there
    held.hang()
    with pytest.raises(SilentError, match="does not answer"):
        guarded(paths[0], 1.0, probe.read_facts, paths[0])
    threading.Timer(4.0, held.answer).start()
    found = guarded_each(paths, 1.0, probe.read_facts)
    assert [one.kind for one in found] == ["picture", "sound"]


def test_a_disk_that_hangs_with_a_request_costs_whoever_asked_and_nobody_who_reads_elsewhere(disk):
    folder, held = disk
    path = min(folder.rglob("*.wav"))
    (here,) = (folder.parent / "far").rglob(path.name)
    guarded_each([path, here], 30.0, probe.read_facts)
    held.hang_with_a_request()
    with ThreadPoolExecutor(3) as people:
        try:
            waiting = [people.submit(guarded, path, 1.0, probe.read_facts, path) for _ in range(2)]
            for one in waiting:
                with pytest.raises(SilentError, match="does not answer"):
                    one.result(45)
            assert people.submit(guarded, here, 30.0, probe.read_facts, here).result(45).kind == "sound"
        finally:
            held.answer()
    assert guarded(path, 30.0, probe.read_facts, path).kind == "sound"


def states(settings, day_id, kind=None):
    with open_session(settings.sqlalchemy_url) as fresh:
        return {row.state for row in progress.of_day(fresh, day_id) if kind in {None, row.kind}}
