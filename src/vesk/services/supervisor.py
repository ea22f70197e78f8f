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
from types import FrameType
from typing import IO

from vesk.core.errors import RefusedError, VeskError
from vesk.services import cluster, sharing, state
from vesk.services.keeping import Cluster
from vesk.settings import PROJECT, Settings

FIRST_PORT = 8720
_PR_SET_PDEATHSIG = 1
_SOON_S = 60.0  # what dies again within this waits longer each time
_LONGEST_WAIT_S = 30.0
_LOOKS = 3  # without an answer, before the database is started again


def _pause() -> None:
    """Wait between two looks."""
    time.sleep(0.5)


def _waits(recent: int) -> float:
    """Return how long to wait before starting again what died `recent` times a moment ago."""
    return min(_LONGEST_WAIT_S, 0.0 if recent == 0 else 2.0**recent)


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


def database(settings: Settings, steps: Steps, *, share: str = "") -> tuple[Settings, Cluster | None]:
    """Have the database running and migrated; returns settings that name it, and the cluster where it is Vesk's own.

    With `share`, an address of this machine, workers on others reach it there.
    """
    if settings.database_url:
        if share:
            raise RefusedError("The database is not Vesk's own: whoever runs it says who reaches it.")
        from vesk.store import migrate  # noqa: PLC0415 - heavy, and not needed by every command

        steps("bringing the database to the present schema", lambda: migrate.to_head(settings.sqlalchemy_url))
        return settings, None
    found: list[Cluster] = []

    def have() -> str:
        own, made = cluster.have(settings.var)
        found.append(own)
        return "made" if made else "is there"

    steps("database cluster", have)
    own = found[0]
    more = sharing.prepare(own, share) if share else ""
    if share and cluster.running(own):
        cluster.stop(own)  # left over from a Vesk that did not share
    steps("starting PostgreSQL on 127.0.0.1", lambda: cluster.start(own, tell=print, more=more))
    cluster.ensure_database(own)
    named = replace(settings, database_url=own.url())
    if share:
        sharing.note(own, named)

    def migrate_it() -> None:
        from vesk.store import migrate  # noqa: PLC0415

        migrate.to_head(named.sqlalchemy_url)

    steps("bringing the database to the present schema", migrate_it)
    return named, own


def _die_with_parent() -> None:
    """Ask the kernel to end this child when its starter dies, however it dies."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


# Pages are long texts made in many threads: without this the C library keeps what was freed, a little more each hour.
_GIVING_BACK = {"MALLOC_ARENA_MAX": "2", "MALLOC_MMAP_THRESHOLD_": "131072"}


@dataclass
class Running:
    """The processes that were started here."""

    settings: Settings
    kind: str
    own: Cluster | None = None
    children: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    commands: dict[str, list[str]] = field(default_factory=dict)
    logs: dict[str, IO[bytes]] = field(default_factory=dict)
    port: int = 0
    share: str = ""  # the address at which workers elsewhere reach the database
    host: str = "127.0.0.1"
    outside: str = ""  # where TLS is spoken, ``host:port``

    def start(self, name: str, command: list[str]) -> None:
        """Start a child; what it prints lies beside its log."""
        folder = self.settings.var / "logs"
        folder.mkdir(parents=True, exist_ok=True)
        # Its log is its own, and rotated; what it says besides, at its end perhaps, lies beside that.
        log = self.logs.get(name) or (folder / f"{name}.out").open("wb")
        environment = {
            **os.environ,
            **self.settings.environment(),
            "OMP_NUM_THREADS": "1",
            "OPENBLAS_NUM_THREADS": "1",
            **(_GIVING_BACK if name == "web" else {}),
        }
        self.children[name] = subprocess.Popen(
            command, cwd=PROJECT, env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log,
            start_new_session=True, preexec_fn=_die_with_parent,  # noqa: PLW1509 - the child only names its parent
        )  # fmt: skip
        self.commands[name] = command
        self.logs[name] = log

    def start_workers(self, count: int, host: str = "") -> None:
        """Start workers, named after their `host` where several share Vesk's folder."""
        for number in range(count):
            name = f"{host}-worker-{number + 1}" if host else f"worker-{number + 1}"
            self.start(name, [sys.executable, "-m", "vesk", "work", "--one", name])

    def start_web(self, listen: str = "") -> None:
        """Start the web server on a free port, and where it is to `listen` (``host:port``), if that is said.

        Over TLS that is beside the port here; behind a proxy, and on this machine, in its place.
        """
        self.host, self.port = "127.0.0.1", 0
        self.outside = listen if self.settings.certificate else ""
        if listen and not self.outside:
            self.host, _, port = listen.rpartition(":")
            self.port = int(port)
        self.port = self.port or cluster.free_port(FIRST_PORT)
        command = [sys.executable, "-m", "vesk.web.server", f"{self.host}:{self.port}"]
        self.start("web", [*command, self.outside] if self.outside else command)

    @property
    def address(self) -> str:
        """Where pages are asked for."""
        if self.outside:
            return f"https://{self.outside}/"
        return f"http://{self.host}:{self.port}/" if self.port else ""

    def wait_for_web(self) -> None:
        """Wait until the web server takes connections."""
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            with socket.socket() as probe:
                probe.settimeout(0.5)
                if probe.connect_ex((self.host.replace("0.0.0.0", "127.0.0.1"), self.port)) == 0:  # noqa: S104
                    return
            if self.children["web"].poll() is not None:
                raise VeskError(f"The web server ended at once; its log is {self.settings.var}/logs/web.log")
            time.sleep(0.05)
        raise VeskError("The web server does not answer.")

    def watch(self) -> None:
        """Stay until asked to stop, starting again what dies, the database first. Nothing that dies ends the rest."""
        died: dict[str, list[float]] = {}
        due: dict[str, float] = {}
        away = 0
        while True:
            now = time.monotonic()
            for name, child in list(self.children.items()):
                if child.poll() is None:
                    continue
                if name not in due:
                    recent = [t for t in died.get(name, []) if now - t < _SOON_S]
                    died[name] = [*recent, now]
                    due[name] = now + _waits(len(recent))
                    print(
                        f"  {name} ended ({child.returncode}); it is started again in {_waits(len(recent)):.0f} s; "
                        f"its log is {self.settings.var}/logs/{name}.log",
                        flush=True,
                    )
                elif now >= due[name]:
                    del due[name]
                    self.start(name, self.commands[name])
                    if self.port:
                        self.note()
            if self.own is not None:
                away = self._tend_database(self.own, away)
            _pause()

    def _tend_database(self, own: Cluster, away: int) -> int:
        """Look after the database as after the rest; returns for how many looks it has not answered."""
        if cluster.answers(own):
            return 0
        if away + 1 < _LOOKS:
            return away + 1
        print("  the database does not answer; starting it again", flush=True)
        try:
            # On the port that everybody here knows.
            port = int(self.settings.database_url.rpartition(":")[2].split("/")[0])
            cluster.start(own, port=port, more=sharing.prepare(own, self.share) if self.share else "")
            print("  the database is back", flush=True)
        except (VeskError, OSError, subprocess.SubprocessError) as error:
            print(f"  {error}", flush=True)
        return 0

    def note(self) -> None:
        """Write down what runs."""
        state.write(
            self.settings.var,
            {
                "pid": os.getpid(),
                "started": state.started_at(os.getpid()),
                "kind": self.kind,
                "address": self.address,
                "children": {name: child.pid for name, child in self.children.items()},
                "media": [str(root) for root in self.settings.media_roots],
            },
        )

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
        for log in self.logs.values():
            log.close()
        if self.own is not None:
            cluster.stop(self.own)
        state.clear(self.settings.var)


def take_folder(settings: Settings) -> None:
    """Take Vesk's folder, or refuse to start where a Vesk runs or starts just now."""
    if not state.take(settings.var):
        values = state.read(settings.var)
        address = values.get("address", "") if state.alive(values) else "it is just starting"
        raise VeskError(f"Vesk is running already: {address or 'see ./vesk status'}. End it with ./vesk stop.")


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
