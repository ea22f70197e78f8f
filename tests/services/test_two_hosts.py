"""Two machines at one queue: a host in a network of its own, media mounted elsewhere, its cable pulled mid-job."""

import json
import os
import shutil
import subprocess
import sys
from contextlib import suppress
from dataclasses import replace

import psycopg
import pytest
from tests.conftest import PROJECT, VAR, end, name_ferry, until, workers

from vesk.actions import gathering
from vesk.core.errors import RefusedError
from vesk.jobs import tending
from vesk.jobs.tasks import ask_intake
from vesk.services import cluster, sharing
from vesk.settings import Settings
from vesk.store import machines, migrate, progress
from vesk.store.session import engine, open_session

HERE, THERE, NAME = "198.18.77.1", "198.18.77.2", f"vesk-{os.getpid()}"
LINE = f"v{os.getpid()}"


def run(*words):
    subprocess.run(words, check=True, capture_output=True, timeout=20)


@pytest.fixture
def network():
    """A network of two: this machine, and one in a namespace that is made for this test and goes with it."""
    try:
        run("ip", "netns", "add", NAME)
    except (OSError, subprocess.CalledProcessError):
        pytest.skip("networks of one's own may not be made here")
    try:
        run("ip", "link", "add", LINE, "type", "veth", "peer", "name", "far0", "netns", NAME)
        run("ip", "addr", "add", f"{HERE}/24", "dev", LINE)
        run("ip", "link", "set", LINE, "up")
        run("ip", "netns", "exec", NAME, "ip", "addr", "add", f"{THERE}/24", "dev", "far0")
        run("ip", "netns", "exec", NAME, "ip", "link", "set", "far0", "up")
        yield
    finally:
        with suppress(subprocess.CalledProcessError):
            run("ip", "link", "del", LINE)
        run("ip", "netns", "del", NAME)


@pytest.fixture
def shared(network, tmp_path):
    """A Vesk that shares its work: its database answers that network, over TLS alone."""
    own, _ = cluster.have(VAR.with_name(f"{VAR.name}-cluster"))
    cluster.stop(own)
    cluster.start(own, more=sharing.prepare(own, HERE), durable=False)
    with psycopg.connect(own.url("postgres"), autocommit=True) as connection:
        connection.execute("DROP DATABASE IF EXISTS vesk WITH (FORCE)")
    cluster.ensure_database(own)
    var = tmp_path / "var"
    var.mkdir()
    made = Settings(own.url(), var, (tmp_path / "media",), person="test editor", light_copies=False)
    migrate.to_head(made.sqlalchemy_url)
    sharing.note(own, made)
    yield made
    engine(made.sqlalchemy_url, quick=False).dispose()
    cluster.stop(own)


def far_worker(shared, tmp_path):
    """Start a worker on the other machine: its own name, and the media under another path, and there alone."""
    elsewhere, hidden = tmp_path / "elsewhere", shared.media_roots[0]
    elsewhere.mkdir()
    script = (
        f"hostname far && mount --bind {hidden} {elsewhere} && mount -t tmpfs none {hidden}"
        f" && exec {sys.executable} -m vesk work --of {HERE} --count 1"
    )
    environment = {
        **{k: v for k, v in os.environ.items() if not k.startswith("VESK_")}, "VESK_VAR": str(shared.var),
        "VESK_MAPPED": json.dumps({str(hidden): str(elsewhere)}), "VESK_LIGHT_COPIES": "0",
        "PYTHONPATH": str(PROJECT / "src"), "OMP_NUM_THREADS": "1",
    }  # fmt: skip
    log = (tmp_path / "far.log").open("wb")
    words = ["ip", "netns", "exec", NAME, "unshare", "-u", "-m", "sh", "-c", script]
    started = subprocess.Popen(words, env=environment, stdout=log, stderr=log)
    log.close()
    return started


def far_holder(shared):
    """Hold, from the other machine, what a worker holds while it tends the queue; returns once it does."""
    script = (
        "import psycopg, sys, time\n"
        "with psycopg.connect(sys.argv[1]) as there:\n"
        "    there.execute('SELECT pg_advisory_xact_lock(%s, 0)', (int(sys.argv[2]),))\n"
        "    print('held', flush=True)\n"
        "    time.sleep(3600)\n"
    )
    address = shared.database_url.replace("127.0.0.1", HERE) + "?sslmode=require"
    words = ["ip", "netns", "exec", NAME, sys.executable, "-c", script, address, str(tending._LOCK)]
    started = subprocess.Popen(words, stdout=subprocess.PIPE)
    with started.stdout as said:
        assert said.readline() == b"held\n"
    return started


def states(shared, day):
    with open_session(shared.sqlalchemy_url) as fresh:
        return {(row.kind, row.subject_id): row.state for row in progress.of_day(fresh, day.id)}


def hosts(shared):
    with open_session(shared.sqlalchemy_url) as fresh:
        return machines.at_work(fresh)


def test_work_is_shared_and_a_host_whose_cable_is_pulled_loses_and_doubles_nothing(shared, ferry, tmp_path):
    shutil.copytree(
        ferry.folder, tmp_path / "media", ignore=shutil.ignore_patterns("B004*", "3[2346]*", "A006_00[34567]*")
    )
    with psycopg.connect(shared.database_url.replace("127.0.0.1", HERE) + "?sslmode=require") as connection:
        assert connection.execute("SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()").fetchone() == (True,)
    with pytest.raises(psycopg.OperationalError):
        psycopg.connect(shared.database_url.replace("127.0.0.1", HERE) + "?sslmode=disable")
    with open_session(shared.sqlalchemy_url) as db:
        day = name_ferry(db, shared, tmp_path / "media")
        ask_intake(db, day.id)
        db.commit()
    running = [far_worker(shared, tmp_path)]
    log = tmp_path / "far.log"
    try:
        until(lambda: hosts(shared) == {"far": 1}, 40, f"the far host ({log.read_text()})")
        until(
            lambda: any(kind == "listen" and state == "running" for (kind, _), state in states(shared, day).items()),
            30, f"work on the far host ({log.read_text()})",
        )  # fmt: skip
        running.append(far_holder(shared))  # a cable is pulled at the worst moment
        run("ip", "link", "set", LINE, "down")
        running += workers(shared)
        until(lambda: set(states(shared, day).values()) == {"done"}, 60, "what the far host had begun")
        assert "far" not in hosts(shared)
        run("ip", "link", "set", LINE, "up")
        until(lambda: hosts(shared).get("far") == 1, 60, "the far host's coming back")
        # What it had listened to when it was cut off is looked at for runs once more, by whoever is free.
        until(lambda: set(states(shared, day).values()) == {"done"}, 60, "what follows its coming back")
        with open_session(shared.sqlalchemy_url) as fresh:
            found = gathering.of_day(fresh, day)
            assert sorted(now.picture.name for now in found) == ["A006_001.mov", "A006_002.mov"]
            assert all(abs(now.errors.head_s * 25 - 0.31) < 0.01 for now in found)
    finally:
        end(running)


def test_a_worker_without_that_folder_or_its_media_is_told_so(tmp_path):
    own = Settings("", tmp_path, ())
    with pytest.raises(RefusedError, match="no Vesk that shares"):
        sharing.joined(own, HERE)
    values = {"port": 1, "secret": "x", "var": "/srv/vesk", "media": ["/srv/nowhere"], "output": []}
    (tmp_path / sharing.NOTE).write_text(json.dumps(values), encoding="utf-8")
    with pytest.raises(RefusedError, match="/srv/nowhere of that Vesk is not here"):
        sharing.joined(own, HERE)
    made = sharing.joined(replace(own, mapped=(("/srv/nowhere", tmp_path),)), HERE)
    assert made.media_roots == (tmp_path,)
    assert made.here("/srv/nowhere/day-6") == tmp_path / "day-6"
    assert made.here("/srv/vesk/turnover/x") == tmp_path / "turnover" / "x"
    assert str(made.here("/srv/nowhere-else/x")) == "/srv/nowhere-else/x"
    with pytest.raises(RefusedError, match="no address"):
        sharing.prepare(None, "my server")
