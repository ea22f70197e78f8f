"""The supervisor: the database is watched as the rest is, and nothing that dies ends what lives."""

import os
import signal
import sys
import threading

import psycopg
import pytest
from tests.conftest import VAR, until

from vesk.core.errors import VeskError
from vesk.services import cluster, supervisor
from vesk.settings import Settings


@pytest.fixture
def watched(tmp_path, monkeypatch):
    """Watch a database and two children, one of which dies at once whenever it is started."""
    own, _ = cluster.have(VAR.with_name(f"{VAR.name}-cluster"))
    # Where no other one that tests at the same time looks for a port, while this one is down.
    cluster.start(own, port=cluster.free_port(cluster.FIRST_PORT + 1000))
    monkeypatch.setattr(supervisor, "_waits", lambda recent: 0.02 * recent)
    running = supervisor.Running(Settings(own.url("postgres"), tmp_path, ()), "test", own)
    running.start("dies", [sys.executable, "-c", "import sys; sys.exit(3)"])
    running.start("lives", [sys.executable, "-c", "import time; time.sleep(60)"])
    asked = threading.Event()

    def pause():
        if asked.wait(0.05):
            raise KeyboardInterrupt

    monkeypatch.setattr(supervisor, "_pause", pause)
    ended = []

    def watch():
        try:
            running.watch()
        except (VeskError, KeyboardInterrupt) as error:
            ended.append(type(error))

    thread = threading.Thread(target=watch)
    thread.start()
    yield running, own, ended
    asked.set()
    thread.join(150)  # it may be starting the database
    monkeypatch.undo()
    running.end()
    assert ended == [KeyboardInterrupt]


def test_a_database_that_was_killed_is_back_on_its_port_and_ten_deaths_end_nothing(watched, capfd):
    running, own, ended = watched
    port, lives = own.port(), running.children["lives"].pid
    pid = int((own.data / "postmaster.pid").read_text().splitlines()[0])
    os.kill(pid, signal.SIGKILL)

    def back():
        try:
            with psycopg.connect(running.settings.database_url, connect_timeout=1) as connection:
                return (
                    connection.execute("SELECT 1").fetchone() == (1,)
                    and int((own.data / "postmaster.pid").read_text().splitlines()[0]) != pid
                )
        except psycopg.OperationalError:
            return False

    until(back, 120, "the database")  # a slow disk: every file is looked at after a kill
    assert own.port() == port
    deaths = [0]

    def ten():
        deaths[0] += capfd.readouterr().out.count("dies ended (3)")
        return deaths[0] >= 10

    until(ten, 30, "ten deaths")
    assert ended == []
    assert running.children["lives"].pid == lives
    assert running.children["lives"].poll() is None


def test_what_dies_again_and_again_waits_longer_each_time():
    assert [supervisor._waits(n) for n in range(7)] == [0, 2, 4, 8, 16, 30, 30]
