"""Twenty people at one day, at the pace of real work: memory, connections, answers, and what the logs hold."""

from __future__ import annotations

import random
import re
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

import psycopg
from faults import Poster, Served

from vesk.services import state
from vesk.simulator import scenario, shoot

PEOPLE, HOUR_S, LOOKS = 20, 3600.0, 12
PAGES = (
    "/days/1/", "/days/1/", "/days/1/clocks", "/days/1/intake", "/days/1/journal", "/days/1/turnover", "/home",
    "/find?words=31A", "/bench/1", "/bench/2", "/bench/3", "/days/1/journal.csv", "/recordings/2",
)  # fmt: skip


def _rss_mb(pid: int) -> float:
    """Return what a process holds of its own and shared memory, MB."""
    try:
        text = Path(f"/proc/{pid}/smaps_rollup").read_text(encoding="ascii")
    except OSError:
        return 0.0
    found = re.search(r"^Pss:\s+(\d+)", text, re.MULTILINE)
    return int(found[1]) / 1024 if found else 0.0


def _person(n: int, address: str, until: float, told: Counter[str], took: list[float]) -> None:
    """Look at pages, think, slip a take now and then, check and undo; the page says every second that it is open."""
    rng = random.Random(n)  # noqa: S311 - a stand-in for a person
    own = Poster(address)
    own.ask("POST", "/who", {"name": f"person {n}", "back": "/"})
    while time.monotonic() < until:
        page = rng.choice(PAGES)
        begun = time.monotonic()
        status, text = own.ask("GET", page)
        took.append(time.monotonic() - begun)
        told[f"page {status}"] += 1
        if rng.random() < 0.2:
            own.slip(rng.randrange(1, 5), rng)
        if rng.random() < 0.05 and (line := re.search(r'action="(/days/1/journal/\d+/undo[^"]*)"', text)):
            told[f"undo {own.ask('POST', line[1])[0]}"] += 1
        for _ in range(rng.randrange(1, 6)):
            time.sleep(1.3)
            own.ask("GET", f"/days/1/progress?tab=person-{n:04}&page=Day&about={rng.randrange(1, 9)}")
    told.update({f"slip {status}": count for status, count in own.statuses.items()})


def main(scale: float) -> int:
    """Run for a share of an hour and print."""
    with tempfile.TemporaryDirectory(prefix="vesk-soak-") as folder:
        home = Path(folder)
        home.chmod(0o755)
        chosen = scenario.load(shoot.SCENARIOS / "lantern_ferry.toml").only(before="11:00:00")
        shoot.shoot(chosen, home / "media", processes=2)
        served = Served(home / "media", home)
        served.start()
        try:
            settings = served.name_day()
            time.sleep(60)  # taken in, listened to, measured
            told: Counter[str] = Counter()
            took: list[float] = []
            lasts = HOUR_S * scale
            until = time.monotonic() + lasts
            people = [
                threading.Thread(target=_person, args=(n, served.address, until, told, took)) for n in range(PEOPLE)
            ]
            for one in people:
                one.start()
            print(f"{PEOPLE} people, {lasts / 60:.0f} minutes; after each twelfth: MB of web and a worker, connections")
            for look in range(LOOKS):
                time.sleep(max(0.0, until - lasts * (LOOKS - 1 - look) / LOOKS - time.monotonic()))
                pids = state.read(served.var)["children"]
                with psycopg.connect(settings.database_url) as connection:
                    row = connection.execute("SELECT count(*) FROM pg_stat_activity WHERE datname = 'vesk'").fetchone()
                worker = _rss_mb(pids["worker-1"])
                print(f"  {look + 1:2}: {_rss_mb(pids['web']):6.0f}{worker:6.0f}{row[0] if row else 0:5}", flush=True)
            for one in people:
                one.join()
            took.sort()
            median, worst = (took[len(took) * share // 100] * 1e3 for share in (50, 99))
            print(f"pages: {len(took)}, median {median:.0f} ms, 99 % {worst:.0f} ms")
            print(", ".join(f"{name}: {count}" for name, count in sorted(told.items())))
            logs = [line for file in (served.var / "logs").glob("*") for line in file.read_text("utf-8").splitlines()]
            bad = [line for line in logs if re.search(r"ERROR|Traceback|CRITICAL", line)]
            print(f"log lines: {len(logs)}, errors: {len(bad)}", *bad[:5], sep="\n")
        finally:
            served.end()
    return 0
