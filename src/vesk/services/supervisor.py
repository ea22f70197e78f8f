"""Start the database, the web server and the workers; end them together."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import FrameType
from typing import IO

from vesk.core.errors import VeskError
from vesk.services import cluster, state
from vesk.settings import PROJECT, Settings

FIRST_PORT = 8720
_PR_SET_PDEATHSIG = 1


class Steps:
    """Prints what is being done and how long it took."""

    def __init__(self) -> None:
        self._start = time.monotonic()

    def __call__(self, what: str, work: Callable[[], object]) -> object:
        """Do one step."""
        print(f"  {what} … ", end="", flush=True)
        begun = time.monotonic()
        result = work()
        note = f"{result}, " if isinstance(result, str) and result else ""
        print(f"{note}{time.monotonic() - begun:.1f} s", flush=True)
        return result

    @property
    def elapsed(self) -> float:
        """Seconds since the first step."""
        return time.monotonic() - self._start


def database(settings: Settings, steps: Steps) -> Settings:
    """Have the cluster made, running and migrated; returns settings that name it."""
    if settings.database_url:
        from vesk.store import migrate  # noqa: PLC0415 - heavy, and not needed by every command

        steps("bringing the database to the present schema", lambda: migrate.to_head(settings.sqlalchemy_url))
        return settings
    own = cluster.place(settings.var)
    steps("database cluster", lambda: "made" if cluster.make(own) else "is there")
    steps("starting PostgreSQL on 127.0.0.1", lambda: cluster.start(own, tell=print))
    cluster.ensure_database(own)
    named = replace(settings, database_url=own.url())

    def migrate_it() -> None:
        from vesk.store import migrate  # noqa: PLC0415

        migrate.to_head(named.sqlalchemy_url)

    steps("bringing the database to the present schema", migrate_it)
    return named


def _die_with_parent() -> None:
    """Ask the kernel to end this child when its starter dies, however it dies."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


@dataclass
class Running:
    """The processes that were started here."""

    settings: Settings
    own_cluster: bool
    children: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    commands: dict[str, list[str]] = field(default_factory=dict)
    logs: list[IO[bytes]] = field(default_factory=list)
    port: int = 0

    def start(self, name: str, command: list[str]) -> None:
        """Start a child whose output goes to its log."""
        folder = self.settings.var / "logs"
        folder.mkdir(parents=True, exist_ok=True)
        log = (folder / f"{name}.log").open("ab")
        environment = {
            **os.environ,
            **self.settings.environment(),
            "OMP_NUM_THREADS": "1",
            "OPENBLAS_NUM_THREADS": "1",
        }
        self.children[name] = subprocess.Popen(
            command, cwd=PROJECT, env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log,
            start_new_session=True, preexec_fn=_die_with_parent,  # noqa: PLW1509 - the child only names its parent
        )  # fmt: skip
        self.commands[name] = command
        self.logs.append(log)

    def start_workers(self, count: int) -> None:
        """Start workers."""
        for number in range(count):
            self.start(
                f"worker-{number + 1}",
                [sys.executable, "-m", "vesk", "work", "--one", f"worker-{number + 1}"],
            )

    def start_web(self) -> None:
        """Start the web server on a free port."""
        self.port = cluster.free_port(FIRST_PORT)
        self.start("web", [
            sys.executable, "-m", "gunicorn", "vesk.web:create_app()", "-k", "gthread", "-w", "1", "--threads", "64",
            "--graceful-timeout", "2", "--bind", f"127.0.0.1:{self.port}", "--log-level", "warning",
            "--no-control-socket",
        ])  # fmt: skip

    def wait_for_web(self) -> None:
        """Wait until the web server takes connections."""
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            with socket.socket() as probe:
                probe.settimeout(0.5)
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            if self.children["web"].poll() is not None:
                raise VeskError(f"The web server ended at once; its log is {self.settings.var}/logs/web.log")
            time.sleep(0.05)
        raise VeskError("The web server does not answer.")

    def watch(self) -> None:
        """Wait, starting again what dies, until asked to stop."""
        failures: dict[str, list[float]] = {}
        while True:
            for name, child in list(self.children.items()):
                if child.poll() is None:
                    continue
                recent = [t for t in failures.get(name, []) if time.monotonic() - t < 30]
                failures[name] = [*recent, time.monotonic()]
                if len(recent) >= 5:
                    raise VeskError(f"{name} keeps ending; its log is {self.settings.var}/logs/{name}.log")
                print(f"  {name} ended ({child.returncode}); starting it again", flush=True)
                self.start(name, self.commands[name])
            time.sleep(0.5)

    def end(self) -> None:
        """End the children, then the database if it was started here."""
        for child in self.children.values():
            if child.poll() is None:
                child.terminate()
        deadline = time.monotonic() + 6
        for child in self.children.values():
            try:
                child.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()
        for log in self.logs:
            log.close()
        if self.own_cluster:
            cluster.stop(cluster.place(self.settings.var))
        state.clear(self.settings.var)


def refuse_second(settings: Settings) -> None:
    """Refuse to start where a Vesk runs already."""
    values = state.read(settings.var)
    if state.alive(values):
        raise VeskError(
            f"Vesk is running already: {values.get('address', 'see ./vesk status')}. End it with ./vesk stop."
        )


def note_running(running: Running, kind: str) -> None:
    """Write down what runs."""
    state.write(
        running.settings.var,
        {
            "pid": os.getpid(),
            "started": state.started_at(os.getpid()),
            "kind": kind,
            "address": f"http://127.0.0.1:{running.port}/" if running.port else "",
            "children": {name: child.pid for name, child in running.children.items()},
            "media": [str(root) for root in running.settings.media_roots],
        },
    )


def stop_on_signals() -> None:
    """Turn the usual signals into KeyboardInterrupt, once: cleaning up is not interrupted."""

    def on_signal(_number: int, _frame: FrameType | None) -> None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_IGN)
        raise KeyboardInterrupt

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, on_signal)


def cores() -> int:
    """Return how many workers this machine carries."""
    return max(1, min(8, len(os.sched_getaffinity(0))))


def var_of(settings: Settings) -> Path:
    """Return Vesk's own folder, made."""
    settings.var.mkdir(parents=True, exist_ok=True)
    return settings.var
