"""The cluster: on loopback, on a port of its own, and alive again after a kill -9."""

import os
import signal
import socket
import subprocess
import threading

import psycopg
import pytest
from tests.conftest import VAR, until

from vesk.services import cluster, state


@pytest.fixture
def own():
    made, _ = cluster.have(VAR.with_name(f"{VAR.name}-cluster"))
    yield made
    cluster.stop(made)


def postmaster(own):
    return int(cluster._as_account(["cat", str(own.data / "postmaster.pid")]).stdout.splitlines()[0])


def test_it_starts_again_after_kill_9_and_keeps_what_it_held(own):
    cluster.start(own)
    with psycopg.connect(own.url("postgres"), autocommit=True) as connection:
        connection.execute("DROP TABLE IF EXISTS kept")
        connection.execute("CREATE TABLE kept AS SELECT 42 AS n")
    os.kill(postmaster(own), signal.SIGKILL)
    cluster.start(own)
    with psycopg.connect(own.url("postgres")) as connection:
        assert connection.execute("SELECT n FROM kept").fetchone() == (42,)
        assert connection.execute("SHOW listen_addresses").fetchone() == ("127.0.0.1",)
        assert connection.execute("SHOW unix_socket_directories").fetchone() == ("",)
    assert cluster.stop(own)
    assert not cluster.running(own)


def test_whoever_answers_at_the_port_of_a_killed_one_is_not_taken_for_it(own, monkeypatch):
    cluster.start(own)
    port = own.port()
    os.kill(postmaster(own), signal.SIGKILL)
    until(lambda: not cluster.running(own), 20, "its end")
    real, dying = cluster.running, iter([True])
    monkeypatch.setattr(cluster, "running", lambda one: next(dying, False) or real(one))
    with socket.socket() as stranger:
        stranger.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        stranger.bind(("127.0.0.1", port))
        stranger.listen()
        cluster.start(own)
        with psycopg.connect(own.url("postgres")):
            assert own.port() != port


def test_a_taken_port_is_noticed_and_another_used(own):
    with socket.socket() as holder:
        holder.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        first = cluster.free_port(cluster.FIRST_PORT)
        holder.bind(("127.0.0.1", first))
        holder.listen()
        cluster.start(own)
        assert own.port() != first
        with psycopg.connect(own.url("postgres")):
            pass


def test_no_outgoing_connection_is_handed_its_port(own):
    # One that is holds it while a killed server is to come back there.
    cluster.start(own)
    assert own.port() < 32_768


def test_one_that_reads_its_journal_is_waited_for_and_not_started_again(own):
    cluster.start(own)
    status, pid = own.data / "postmaster.pid", postmaster(own)
    ready = status.read_bytes()
    status.write_bytes(ready.replace(b"ready   ", b"starting"))
    told = []

    def tell(text):
        told.append(text)
        threading.Timer(1.0, status.write_bytes, [ready]).start()

    cluster.start(own, tell=tell)
    assert len(told) == 1
    assert "journal" in told[0]
    assert status.read_bytes() == ready
    assert postmaster(own) == pid


def test_a_process_number_used_again_is_not_taken_for_ours(tmp_path):
    state.write(tmp_path, {"pid": os.getpid(), "started": state.started_at(os.getpid())})
    assert state.alive(state.read(tmp_path))
    state.write(tmp_path, {"pid": os.getpid(), "started": "1"})
    assert not state.alive(state.read(tmp_path))
    with subprocess.Popen(["sleep", "60"]) as child:
        state.write(tmp_path, {"pid": child.pid, "started": state.started_at(child.pid)})
        assert state.alive(state.read(tmp_path))
        child.kill()
        until(lambda: not state.alive(state.read(tmp_path)), 5)  # though nobody has reaped it yet
    state.file(tmp_path).write_text("{", encoding="utf-8")
    assert state.read(tmp_path) == {}


def test_nobody_gets_in_without_the_password(own):
    cluster.start(own)
    with pytest.raises(psycopg.OperationalError):
        psycopg.connect(own.url("postgres").replace("vesk:", "vesk:wrong"))
    assert until(lambda: cluster.running(own), 5)
