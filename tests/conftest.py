"""What the tests share: the demo day simulated once, a database of their own, a served application."""

from __future__ import annotations

import fcntl
import gc
import hashlib
import itertools
import json
import os
import pickle
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import flask
import numpy as np
import pytest
from hypothesis import settings as property_tests
from jinja2.bccache import Bucket, BytecodeCache
from sqlmodel import Session, select

PROJECT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(PROJECT / "src"))
os.environ["PYTHONPATH"] = str(PROJECT / "src")  # for the processes that tests start

from vesk.core.timecode import FrameRate  # noqa: E402
from vesk.services import cluster  # noqa: E402
from vesk.settings import Settings  # noqa: E402
from vesk.store.session import open_session  # noqa: E402

# The machine is shared: how long one example took says nothing.
property_tests.register_profile("shared", deadline=None)
property_tests.load_profile("shared")
PAL = FrameRate(Fraction(25))
# Each of the processes that test at once has databases of its own, and ports: one that is killed in a test would find
# its port taken by another's.
_PROCESS = os.environ.get("PYTEST_XDIST_WORKER", "")
VAR = Path(os.environ.get("VESK_TEST_VAR") or PROJECT / "var" / f"test{_PROCESS}")
if _PROCESS:
    cluster.FIRST_PORT += 300 * (int(_PROCESS.removeprefix("gw")) + 1)
SHORT = """
[production]
name = "The Lantern Ferry"
day = 7
date = 2027-03-19
rate = "{rate}"
seed = 11
[[device]]
tag = "A"
name = "main camera"
kind = "camera"
folder = "A007"
roll = "A007"
ppm = 3.0
phase = 0.2
jams = ["{jam}"]
distance_m = 1.0
noise_db = -55
level_db = -8
channels = ["scratch"]
[[device]]
tag = "S1"
name = "main recorder"
kind = "recorder"
folder = "S1"
roll = "SR07"
jams = ["{jam}"]
distance_m = 0.5
channels = ["mix", "boom"]
[[shot]]
slate = "40"
take = 1
start = "{start}"
length = 9
clap = 1.2
talk = [[2.0, 8.5]]
roll = [{{ source = "A", from = 0.0, to = 9.0 }}, {{ source = "S1", from = -1.513, to = 10.2 }}]
"""


class _CompiledOnce(BytecodeCache):
    """Templates are compiled once a process, not once for each application: a seventh of web tests' time."""

    def __init__(self) -> None:
        self._codes: dict[tuple[str, str], Any] = {}

    def load_bytecode(self, bucket: Bucket) -> None:
        """Take what was compiled of the same source."""
        bucket.code = self._codes.get((bucket.key, bucket.checksum))

    def dump_bytecode(self, bucket: Bucket) -> None:
        """Keep what was compiled."""
        self._codes[bucket.key, bucket.checksum] = bucket.code


flask.Flask.jinja_options = {"bytecode_cache": _CompiledOnce()}


def _statements_compiled_once() -> None:
    """Let all databases of a run, which are alike, share what was compiled of the same statement: a sixth of the time.

    The library keeps it by its dialect, which each engine has of its own.
    """
    from sqlalchemy import create_engine
    from sqlalchemy.dialects.postgresql.psycopg import PGDialect_psycopg

    from vesk.store import session

    kept: dict[Any, Any] = {}
    PGDialect_psycopg.__hash__ = lambda self: hash(type(self))  # type: ignore[method-assign]
    PGDialect_psycopg.__eq__ = lambda self, other: type(self) is type(other)  # type: ignore[method-assign]
    session.create_engine = partial(create_engine, execution_options={"compiled_cache": kept})  # type: ignore[attr-defined]


def _addresses_compiled_once() -> None:
    """Let all applications of a run share what is compiled of each address: a twelfth of web tests' time."""
    from werkzeug.routing import Rule

    kept: dict[Any, Any] = {}
    real = Rule._compile_builder

    def once(self: Rule, append_unknown: bool = True) -> Any:  # noqa: FBT001, FBT002 - as the library's
        key = self.rule, self.subdomain, repr(self.defaults), append_unknown
        if key not in kept:
            kept[key] = real(self, append_unknown)
        return kept[key]

    Rule._compile_builder = once  # type: ignore[method-assign]


_statements_compiled_once()
_addresses_compiled_once()


def pytest_collection_finish() -> None:
    """Look through what imports left but once, and seldom for what a test leaves: a twentieth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


_LONGEST = ("browser", "dailies", "actions", "core")  # folders whose files take longest begin first
_WAITING = ("services", "jobs", "cli")  # those that wait for processes and clocks more than they compute


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put what takes longest first, so that no process is left with it alone at the end.

    What mostly waits is spread among that: side by side it would leave the cores idle.
    """
    order = {name: place for place, name in enumerate(_LONGEST)}
    items.sort(key=lambda item: order.get(item.path.parent.name, len(order)))
    files = {path: list(own) for path, own in itertools.groupby(items, key=lambda item: item.path)}
    waiting = [path for path in files if path.parent.name in _WAITING]
    computing = [path for path in files if path not in waiting]
    apart = len(computing) // (len(waiting) + 1) + 1
    for number, path in enumerate(waiting):
        computing.insert(min(len(computing), number * (apart + 1) + 2), path)
    items[:] = [item for path in computing for item in files[path]]


@dataclass(frozen=True)
class Shoot:
    """Simulated media and what is true about it."""

    folder: Path
    truth: dict[str, Any]

    def pair(self, picture: str, sound: str) -> dict[str, Any]:
        """Return the truth about two files, by their names."""
        return next(p for p in self.truth["pairs"] if p["picture"].endswith(picture) and p["sound"].endswith(sound))


def make_shoot(scenario_text: str | None, folder: Path, *, processes: int = 1, **hours: str) -> Shoot:
    """Shoot a scenario, or a part of the demo's day when no text is given; a process more loads for seconds."""
    from vesk.simulator import scenario, shoot

    if scenario_text is None:
        path = shoot.SCENARIOS / "lantern_ferry.toml"
    else:
        path = folder / "scenario.toml"
        path.write_text(scenario_text, encoding="utf-8")
    chosen = scenario.load(path)
    chosen = chosen.only(**hours) if hours else chosen
    out = folder / "media"
    planned = shoot.shoot(chosen, out, processes=processes)
    return Shoot(out, shoot.truth(planned, chosen, out))


def shared_shoot(name: str, tmp_path_factory: pytest.TempPathFactory, **hours: str) -> Shoot:
    """Shoot a part of the demo's day once, for however many processes test at a time."""
    together = os.environ.get("VESK_TEST_SHARED")
    if not together:
        return make_shoot(None, tmp_path_factory.mktemp(name), processes=2, **hours)
    folder = Path(together, name)
    folder.mkdir(exist_ok=True)
    told = folder / "truth.json"
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # the other process waits for what this one makes
        if not told.exists():
            told.write_text(json.dumps(make_shoot(None, folder, processes=2, **hours).truth), encoding="utf-8")
    return Shoot(folder / "media", json.loads(told.read_text(encoding="utf-8")))


@pytest.fixture(scope="session")
def ferry(tmp_path_factory: pytest.TempPathFactory) -> Shoot:
    """The demo day's morning: sources A, B and S1, all jammed."""
    return shared_shoot("ferry", tmp_path_factory, before="13:00:00")


@pytest.fixture(scope="session")
def afternoon(tmp_path_factory: pytest.TempPathFactory) -> Shoot:
    """The demo day after lunch: LTC, off-speed, no timecode, a machine that starts at zero and loses samples."""
    return shared_shoot("afternoon", tmp_path_factory, since="13:00:00")


@pytest.fixture(scope="session")
def cache(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Features kept between tests, as between a person's runs; and between processes, as between workers."""
    together = os.environ.get("VESK_TEST_SHARED")
    if not together:
        return tmp_path_factory.mktemp("cache")
    folder = Path(together, "cache")
    folder.mkdir(exist_ok=True)
    return folder


@pytest.fixture(scope="session", autouse=True)
def measured_once(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Measure the same sounds, asked in the same way, once for all tests of actions and pages: they ask for hundreds.

    Tests of the engine itself, and processes that tests start, measure each time.
    """
    from vesk.dailies import measuring

    folder = Path(os.environ.get("VESK_TEST_SHARED") or tmp_path_factory.mktemp("measured"))
    real = measuring.measure_channels

    def once(pictures: Any, sounds: Any, *, on_progress: Any, **asked: Any) -> Any:
        said = hashlib.blake2b(repr((len(pictures), sorted(asked.items()))).encode())
        for one in (*pictures, *sounds):
            said.update(repr((one.sound.shape, one.sound.dtype, one.unit)).encode())
            said.update(np.ascontiguousarray(one.sound))
            said.update(np.ascontiguousarray(one.features))
        kept = folder / f"measured-{said.hexdigest()[:32]}"
        if kept.exists():
            on_progress(1, 1)  # who waits no more says so here
            return pickle.loads(kept.read_bytes())  # noqa: S301 - written by this run
        found = real(pictures, sounds, on_progress=on_progress, **asked)
        part = kept.with_suffix(f".{os.getpid()}")
        part.write_bytes(pickle.dumps(found))
        part.replace(kept)
        return found

    measuring.measure_channels = once  # type: ignore[assignment]
    yield
    measuring.measure_channels = real


@pytest.fixture(scope="session")
def cluster_url() -> Iterator[Any]:
    """A PostgreSQL cluster for this run, with a migrated template database."""
    from vesk.store import migrate

    own, _ = cluster.have(VAR)
    cluster.start(own, durable=False)
    cluster.ensure_database(own, "template_vesk")
    migrate.to_head(own.url("template_vesk").replace("postgresql://", "postgresql+psycopg://"))
    yield own.url
    cluster.stop(own)


_numbers = itertools.count()


@pytest.fixture
def template() -> str:
    """What a test's database is cloned from; a module whose tests all begin with one day names that (`made_once`)."""
    return "template_vesk"


@pytest.fixture(scope="session")
def made_once(cluster_url, cache: Path, tmp_path_factory: pytest.TempPathFactory) -> Any:
    """Return a function that makes a day in a database of its own, once, to be cloned; it gives the database's name."""
    import psycopg

    made = set()

    def have(name: str, make: Any) -> str:
        if name in made:
            return name
        made.add(name)
        with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
            connection.execute(f"CREATE DATABASE {name} TEMPLATE template_vesk")
        own = settings_in(tmp_path_factory.mktemp(name), cluster_url(name), cache)
        with open_session(own.sqlalchemy_url) as session:
            make(session, own)
            session.commit()
        let_go_of(cluster_url(name))
        return name

    return have


def let_go_of(address: str) -> None:
    """Close what is connected to a database."""
    from sqlalchemy.orm import close_all_sessions

    from vesk.store import session as store_session

    close_all_sessions()
    for quick in (False, True):
        store_session.engine(address.replace("postgresql://", "postgresql+psycopg://"), quick=quick).dispose()
    store_session.forget_engines()


def moved_day(session: Session, folder: Path) -> Any:
    """Return the one day of a cloned database, its media where this test has its own of them."""
    from vesk.store.tables import Day

    (day,) = session.exec(select(Day)).all()
    day.folder = str(folder)
    session.commit()
    return day


@pytest.fixture
def database(cluster_url, template: str) -> Iterator[str]:
    """A database of a test's own, cloned from its template."""
    import psycopg

    name = f"test_{os.getpid()}_{next(_numbers)}"
    with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name} TEMPLATE {template}")
    yield cluster_url(name)
    let_go_of(cluster_url(name))
    with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


@pytest.fixture
def settings(database: str, tmp_path: Path, cache: Path) -> Settings:
    """Settings with a database and a folder of their own, and the run's cache."""
    return settings_in(tmp_path, database, cache)


def settings_in(folder: Path, database: str, cache: Path) -> Settings:
    """Return settings whose own folder and media lie in a folder of a test's."""
    var = folder / "var"
    var.mkdir()
    (var / "cache").symlink_to(cache)
    return Settings(
        database_url=database, var=var, media_roots=(folder / "media",), person="test editor", light_copies=False
    )


@pytest.fixture
def db(settings: Settings) -> Iterator[Session]:
    """A session."""
    with open_session(settings.sqlalchemy_url) as session:
        yield session


def named_day(session: Session, settings: Settings, folder: Path, *, number: int = 7, rate: FrameRate = PAL) -> Any:
    """Name a day of the production whose media lie in a folder."""
    from vesk.actions import intake

    return intake.name_day(
        session, settings, production="The Lantern Ferry", number=number, shot_on=date(2027, 3, 12 + number), rate=rate,
        folder=str(folder),
    )  # fmt: skip


def heard_and_merged(session: Session, settings: Settings, day: Any) -> None:
    """Take in a day, listen to all of it, and take together what is one recording, as workers do."""
    from vesk.actions import intake, measuring, merging
    from vesk.store import recordings

    intake.take_in(session, settings, day)
    for _ in range(2):
        merging.merge_day(session, settings, day)
        for row in recordings.ready_of_day(session, day.id):
            measuring.listen(session, settings, row.id)
    merging.merge_day(session, settings, day)


def name_ferry(session: Session, settings: Settings, folder: Path) -> Any:
    """Name the demo day with what its camera reports say of the microphones."""
    from vesk.cli.demo import name_sources

    day = named_day(session, settings, folder, number=6)
    name_sources(session, day)
    session.commit()
    return day


def measured_takes(session: Session, settings: Settings, ferry: Shoot, folder: Path, *without: str) -> Any:
    """Take in a part of the demo's morning (linked, not copied), pair it and measure it."""
    from vesk.actions import intake, measuring, pairing

    shutil.copytree(ferry.folder, folder, copy_function=os.link, ignore=shutil.ignore_patterns(*without))
    day = name_ferry(session, settings, folder)
    intake.take_in(session, settings, day)
    for pairing_id in pairing.pair_day(session, day):
        measuring.measure_pairing(session, settings, pairing_id)
    session.commit()
    return day


def handed_over(folder: Path) -> set[str]:
    """Return the sound files and movies of a package, from its folder."""
    every = (one for one in folder.rglob("*") if one.suffix in {".wav", ".mov", ".mp4", ".mxf"})
    return {one.relative_to(folder).as_posix() for one in every}


def shown(*rows: Any) -> dict[int, int]:
    """Return rows as a page shows them: the version of each, by its number."""
    return {row.id: row.version for row in rows}


def workers(settings: Settings, count: int = 1) -> list[subprocess.Popen[bytes]]:
    """Start worker processes."""
    environment = {**os.environ, **settings.environment(), "PYTHONPATH": str(PROJECT / "src"), "OMP_NUM_THREADS": "1"}
    return [
        subprocess.Popen([sys.executable, "-m", "vesk", "work", "--one", f"test-{n}"], env=environment)
        for n in range(count)
    ]


def end(processes: list[subprocess.Popen[bytes]]) -> None:
    """End processes this run started."""
    for process in processes:
        process.terminate()
    for process in processes:
        try:
            process.wait(8)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


PATIENCE = 6  # machines are shared: what waits for its turn is late, not lost


def until(condition: Any, seconds: float = 60.0, what: str = "it") -> Any:
    """Wait until a condition gives something true, and return that; on a starved machine, several times as long."""
    deadline = time.monotonic() + PATIENCE * seconds
    while time.monotonic() < deadline:
        value = condition()
        if value:
            return value
        time.sleep(0.1)
    raise AssertionError(f"{what} did not happen in {PATIENCE * seconds} s")


class Counted:
    """The application, with its requests counted: none is in the middle of something when its database goes."""

    def __init__(self, app: Any) -> None:
        self._app, self._change = app, threading.Condition()
        self._busy, self._closing = 0, False

    def __call__(self, environ: Any, start: Any) -> Any:
        """Answer, or, once the test is over, refuse: an open page may still ask how far the work is."""
        with self._change:
            closing = self._closing
            self._busy += 1
        try:
            if closing:
                start("503 Service Unavailable", [("Content-Length", "0")])
                return []
            return self._app(environ, start)
        finally:
            with self._change:
                self._busy -= 1
                self._change.notify_all()

    def end(self) -> None:
        """Let what is being answered end, and answer nothing more."""
        with self._change:
            self._closing = True
            assert self._change.wait_for(lambda: self._busy == 0, timeout=30)


def have_done(server: Any, end: Any) -> None:
    """Have a server's own thread do what ends it.

    Who ends a request wakes that thread as well: it may have done so, and closed the pipe, before this one writes.
    """
    with suppress(OSError):
        server.trigger.pull_trigger(end)


@pytest.fixture
def serve(settings: Settings) -> Iterator[Any]:
    """Return a function that serves the application in a thread and gives its address."""
    from werkzeug.serving import make_server

    from vesk.web import create_app

    servers = []

    def start(**more: Any) -> str:
        app = Counted(create_app(replace(settings, **more)))
        server = make_server("127.0.0.1", 0, app, threaded=True)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        servers.append((server, app))
        return f"http://127.0.0.1:{server.server_port}"

    yield start
    for server, app in servers:
        server.shutdown()
        app.end()
        server.server_close()
