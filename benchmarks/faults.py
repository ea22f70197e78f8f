"""Faults, tried on purpose and counted: kills, conflicting posts, damaged files, disks that are full or closed.

Bounded and repeatable: everything random comes from one seed; a run ends by itself. Nothing outside a folder of its
own is touched, and nothing is asked of another machine than this.
"""

from __future__ import annotations

import http.client
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import date
from fractions import Fraction
from pathlib import Path
from urllib.parse import urlencode

import damage
import psycopg
from conflicts import conflicts, lines
from sqlmodel import select

from vesk.actions import intake, package
from vesk.core.errors import VeskError
from vesk.core.kinds import Work
from vesk.core.timecode import FrameRate
from vesk.jobs.tasks import ask_intake
from vesk.media import hash_list
from vesk.services import cluster, keeping, state
from vesk.settings import PROJECT, Settings
from vesk.simulator import scenario, shoot
from vesk.store import migrate, pairings, progress, recordings, turnovers
from vesk.store.session import open_session
from vesk.store.tables import CorrectionRow

SEED = 20_270_318
HANGS_S = 10.0


def main(scale: float) -> None:
    with tempfile.TemporaryDirectory(prefix="vesk-faults-") as folder:
        home = Path(folder)
        home.chmod(0o755)
        media = home / "media"
        chosen = scenario.load(shoot.SCENARIOS / "lantern_ferry.toml").only(before="11:00:00")
        shoot.shoot(chosen, media, processes=2)
        damage.damaged(media, home / "damaged", max(50, round(2000 * scale)))
        damage.disks(media, home / "disks")
        beside(media, home / "beside", max(50, round(2000 * scale)))
        posts(home / "posts", max(1, round(5 * scale)))
        kills(media, home / "kills", max(4, round(60 * scale)))


# Damaged files -----------------------------------------------------------------------------------------------------


def posts(home: Path, rounds: int) -> None:
    """Let eight people conflict over every kind of change."""
    own, _ = cluster.have(home)
    cluster.start(own)
    try:
        cluster.ensure_database(own)
        (home / "media").mkdir()
        settings = Settings(own.url(), home, (home / "media",), person="somebody")
        migrate.to_head(settings.sqlalchemy_url)
        told = conflicts(settings, people=8, rounds=rounds)
    finally:
        cluster.stop(own)
    print("\nconflicting posts, eight people at once on what all of them saw")
    for line in lines(told):
        print(f"  {line}")


# Bad files beside a good day ---------------------------------------------------------------------------------------


def beside(media: Path, home: Path, count: int) -> None:
    """Take a day in alone, and with a folder of damaged files in it; print how much later it is there."""
    home.mkdir()
    shutil.copytree(media, home / "both", copy_function=os.link)
    damage.folder_of(media, home / "both" / "X", count)
    alone, pairs, _ = _there_after(media, home / "one", 0)
    later, _, others = _there_after(home / "both", home / "two", pairs)
    print(f"\na day of {pairs} pairings, {count} damaged files beside it ({others} of them made something of)")
    print(f"  all listened to and measured after {alone:.0f} s alone, {later:.0f} s: {later / alone:.2f} times")


def _there_after(media: Path, home: Path, wanted: int) -> tuple[float, int, int]:
    """Return after how many seconds the good recordings are measured, in how many pairings, and how many bad stand."""
    home.mkdir()
    served = Served(media, home)
    served.start()
    try:
        begun = time.monotonic()
        settings = served.name_day()
        while time.monotonic() - begun < 1800:
            time.sleep(0.5)
            with open_session(settings.sqlalchemy_url) as session:
                if (intaken := progress.find(session, Work.INTAKE, 1)) is None or intaken.state in progress.OPEN:
                    continue
                rows = {row.id: row for row in recordings.of_day(session, 1)}
                good = {number for number, row in rows.items() if not row.path.startswith("X/")}
                own = [row for row in pairings.of_day(session, 1) if {row.picture_id, row.sound_id} <= good]
                busy = any(
                    row.state in progress.OPEN
                    for row in progress.of_day(session, 1)
                    if (row.kind == Work.LISTEN and row.subject_id in good)
                    or (row.kind == Work.MEASURE and row.subject_id in {one.id for one in own})
                )
            if not busy and len(own) >= max(1, wanted):
                return time.monotonic() - begun, len(own), len(rows) - len(good)
        raise RuntimeError("the day did not come in within half an hour")
    finally:
        served.end()


# Kills -------------------------------------------------------------------------------------------------------------


@dataclass
class Poster:
    """Somebody who slips pairings over the pages all the while, and remembers what was accepted."""

    address: str
    token: str = ""
    cookie: str = ""
    accepted: list[tuple[int, Fraction]] = field(default_factory=list)
    statuses: Counter[str] = field(default_factory=Counter)

    def ask(self, method: str, path: str, form: dict[str, str] | None = None) -> tuple[int, str]:
        """Ask for a page; 0 where nobody answers."""
        link = http.client.HTTPConnection(self.address, timeout=30)
        head = {"Cookie": self.cookie, "X-CSRFToken": self.token, "Content-Type": "application/x-www-form-urlencoded"}
        try:
            link.request(method, path, urlencode(form or {}), head)
            answer = link.getresponse()
            text = answer.read().decode("utf-8", "replace")
        except (OSError, http.client.HTTPException):
            return 0, ""
        finally:
            link.close()
        for name, value in answer.getheaders():
            if name == "Set-Cookie" and value.startswith("session="):
                self.cookie = value.split(";")[0]
        if (found := re.search(r'X-CSRFToken": "([^"]+)"', text)) is not None:
            self.token = found[1]
        return answer.status, text

    def slip(self, number: int, rng: random.Random) -> None:
        """Read a pairing's page and slip it by a figure of one's own."""
        status, text = self.ask("GET", f"/bench/{number}")
        version = re.search(r'name="version" value="(\d+)"', text)
        if status != 200 or version is None:
            self.statuses[f"page {status}"] += 1
            return
        slip = Fraction(rng.randrange(-40_000, 40_000), 1000)
        form = {"version": version[1], "slip_frames": f"{float(slip):.3f}", "ppm": "0"}
        status, _ = self.ask("POST", f"/bench/{number}/own", form)
        self.statuses[str(status)] += 1
        if status == 200:
            self.accepted.append((number, slip / 25))


def kills(media: Path, home: Path, count: int) -> None:
    """Kill whatever runs at random moments of every kind of work while edits are posted; then look what is there."""
    home.mkdir()
    rng = random.Random(SEED)  # noqa: S311 - repeatable, not secret
    served = Served(media, home)
    try:
        served.start()
        settings = served.name_day()
        _work_ends(settings, 240)
        numbers = _numbers(settings)
        poster = Poster(served.address)
        stop = threading.Event()

        def edit() -> None:
            mine = random.Random(SEED + 1)  # noqa: S311 - repeatable, not secret
            while not stop.is_set():
                poster.address = served.address
                poster.slip(mine.choice(numbers), mine)
                time.sleep(0.03)

        thread = threading.Thread(target=edit)
        thread.start()
        victims: Counter[str] = Counter()
        for n in range(count):
            served.ask_for_work(n)
            time.sleep(rng.uniform(0.2, 4.0))
            victim = ("worker-1", "worker-2", "web", "database", "supervisor")[n % 5]
            victims[victim] += served.kill(victim)
            time.sleep(rng.uniform(0.5, 2.0))
        stop.set()
        thread.join(60)
        served.up(60)
        open_ = _work_ends(served.settings(), 300)
        _report_kills(served.settings(), poster, victims, open_)
    finally:
        served.end()


class Served:
    """A whole Vesk of its own, as a person starts it."""

    def __init__(self, media: Path, home: Path, workers: int = 2) -> None:
        self.media, self.var, self.workers = media, home / "var", workers
        self.process: subprocess.Popen[bytes] | None = None
        self.log = (home / "serve.log").open("ab")

    @property
    def address(self) -> str:
        """Where it answers; what it was while it starts again."""
        told = re.search(r"//([^/]+)/", state.read(self.var).get("address", ""))
        return told[1] if told else "127.0.0.1:1"

    def start(self) -> None:
        """Start it and wait until it answers."""
        environment = {**os.environ, "VESK_VAR": str(self.var), "PYTHONPATH": str(PROJECT / "src")}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "vesk", "serve", "--media", str(self.media), "--workers", str(self.workers)],
            cwd=PROJECT,
            env=environment,
            stdout=self.log,
            stderr=self.log,
        )
        self.up(90)

    def up(self, seconds: float) -> None:
        """Wait until pages answer."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if self.process is not None and self.process.poll() is not None:
                self.start()
                return
            if Poster(self.address).ask("GET", "/new")[0] == 200:
                return
            time.sleep(0.3)
        raise RuntimeError(f"Vesk does not answer after {seconds:.0f} s")

    def settings(self) -> Settings:
        """Return settings that reach its database."""
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            with suppress(VeskError, psycopg.Error):
                own = keeping.Cluster(keeping.found_at(self.var) or self.var)
                settings = Settings(own.url(), self.var, (self.media,), person="somebody")
                with psycopg.connect(settings.database_url):
                    return settings
            time.sleep(0.3)
        raise RuntimeError("the database does not come back")

    def name_day(self) -> Settings:
        """Name the day and have it taken in."""
        settings = self.settings()
        with open_session(settings.sqlalchemy_url) as session:
            day = intake.name_day(
                session, settings, production="The Lantern Ferry", number=6, shot_on=date(2027, 3, 18),
                rate=FrameRate.parse("25"), folder=str(self.media),
            )  # fmt: skip
            ask_intake(session, day.id)
            session.commit()
        return settings

    def ask_for_work(self, n: int) -> None:
        """Ask for one kind of work after the other, over the pages."""
        asked = ("/days/1/intake", "/days/1/turnover", "/bench/1/measure", "/days/1/intake")[n % 4]
        with suppress(RuntimeError):
            self.up(60)
        poster = Poster(self.address)
        status, text = poster.ask("GET", "/bench/1" if "bench" in asked else asked)
        version = re.search(r'name="version" value="(\d+)"', text)
        if status == 200 and n % 4 == 1:
            # Something has to be checked for a turnover to be made.
            _, bench = poster.ask("GET", f"/bench/{1 + n % 3}")
            own = re.search(r'name="version" value="(\d+)"', bench)
            poster.ask("POST", f"/bench/{1 + n % 3}/check", {"version": own[1] if own else "0"})
        if n % 4 == 3:
            # So that there is something to listen to: what was computed is gone.
            for folder in (self.var / "cache").glob("w*"):
                shutil.rmtree(folder, ignore_errors=True)
        sent = {"version": version[1] if version else "0"}
        poster.ask("POST", asked, sent | (RECIPE if "turnover" in asked else {}))

    def kill(self, victim: str) -> int:
        """End one of its processes as a power cut would; returns whether there was one."""
        values = state.read(self.var)
        pid: int | None = values.get("children", {}).get(victim)
        if victim == "supervisor":
            pid = self.process.pid if self.process else None
        elif victim == "database":
            with suppress(OSError, ValueError, IndexError):
                data = keeping.found_at(self.var) or self.var
                pid = int((data / "postmaster.pid").read_text(encoding="utf-8").splitlines()[0])
        if not pid:
            return 0
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
        if victim == "supervisor" and self.process is not None:
            self.process.wait()
            time.sleep(1)
            self.start()
        return 1

    def end(self) -> None:
        """End it in peace."""
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(30)
            except subprocess.TimeoutExpired:
                self.process.kill()
        data = keeping.found_at(self.var)
        if data is not None:
            cluster.stop(keeping.Cluster(data))
        self.log.close()


RECIPE = {
    "sound": "one for each picture file", "pattern": "{picture}", "movies": "yes", "scratch": "yes", "timecode": "yes",
    "timeline": "yes", "aaf": "yes", "edl": "yes", "pdf": "yes", "which": "checked", "handles": "0",
    "start": "at the first recording's timecode", "start_label": "",
}  # fmt: skip


def _hashes_hold(folder: Path) -> bool:
    listed = next((folder / hash_list.FOLDER).glob("*.mhl"), None)
    return listed is not None and not hash_list.verify(folder, listed)


def _numbers(settings: Settings) -> list[int]:
    with open_session(settings.sqlalchemy_url) as session:
        return [row.id for row in pairings.of_day(session, 1)]


def _work_ends(settings: Settings, seconds: float) -> list[str]:
    """Wait until no work is open; returns what still is."""
    deadline = time.monotonic() + seconds
    left: list[str] = ["not looked yet"]
    while left and time.monotonic() < deadline:
        with suppress(Exception), open_session(settings.sqlalchemy_url) as session:
            left = [f"{row.what} ({row.state})" for row in progress.of_day(session, 1) if row.state in progress.OPEN]
            left += [
                f"turnover {row.id} ({row.state})"
                for row in turnovers.of_day(session, 1)
                if row.state in {"waiting", "running"}
            ]
        time.sleep(0.5)
    return left


def _report_kills(settings: Settings, poster: Poster, victims: Counter[str], open_: list[str]) -> None:
    with open_session(settings.sqlalchemy_url) as session:
        rows = session.exec(select(CorrectionRow)).all()
        kept = Counter((row.pairing_id, row.slip) for row in rows if row.origin == "own")
        lost = Counter(poster.accepted) - kept
        doubled = session.connection().exec_driver_sql(
            "SELECT count(*) FROM (SELECT picture_id, sound_id FROM pairing GROUP BY 1, 2 HAVING count(*) > 1) AS twice"
        ).scalar()  # fmt: skip
        failed = [f"{row.what}: {row.problem}" for row in progress.of_day(session, 1) if row.state == "failed"]
        made, half = 0, 0
        for row in turnovers.of_day(session, 1):
            folder = Path(row.folder)
            made += row.state == "done"
            listed = {one.name for one in turnovers.deliveries(session, row.id) if one.name} | set(row.documents)
            there = {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}
            whole = folder.exists() and there == listed and _hashes_hold(folder)
            half += folder.exists() != (row.state == "done") or (row.state == "done" and not whole)
            half += row.state == "done" and package.UNFINISHED in str(package.place_of(settings, row))
    print(f"\nkills: {sum(victims.values())} ({', '.join(f'{n} {name}' for name, n in sorted(victims.items()))})")
    print(f"  edits posted beside: {sum(poster.statuses.values())}: {dict(sorted(poster.statuses.items()))}")
    there = len(poster.accepted) - lost.total()
    print(f"  accepted {len(poster.accepted)}, there afterwards {there}, lost {lost.total()}")
    print(f"  pairings doubled {doubled}; work stuck {len(open_)} {open_[:3]}; work told as failed {len(failed)}")
    for sentence in failed[:4]:
        print(f"    {sentence}")
    print(f"  turnovers done {made}, half made that look finished {half}")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 1.0)
