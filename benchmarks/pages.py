"""Pages of a large day: what each costs the server, database included, how many queries it asks, how large it is.

A day in the database alone: two cameras and a recorder, a third of the recordings each; every camera file paired
with the recorder's and measured. CPU seconds of the web process and of the database's own, in one run.
"""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import Any

import material
from sqlalchemy import event
from sqlmodel import Session

from vesk.actions import overview, pairing
from vesk.core.facts import Facts
from vesk.core.kinds import PICTURE, SOUND
from vesk.core.sound.measure import measure
from vesk.core.timecode import FrameRate, Timecode
from vesk.services import cluster
from vesk.settings import Settings
from vesk.store import days, migrate, pairings
from vesk.store.session import engine, open_session
from vesk.store.tables import Day, Recording
from vesk.web import create_app

PAL = FrameRate(Fraction(25))
TIMES = 5


def _facts(kind: str, start: int, seconds: int) -> Facts:
    label = str(Timecode.at(Fraction(start), PAL))
    both: dict[str, Any] = {"kind": kind, "sample_rate": 48_000, "channels": 2, "duration": Fraction(seconds)}
    both |= {"samples": 48_000 * seconds, "scene": str(start // 600), "take": str(start // 120 % 5 + 1)}
    if kind == SOUND:
        return Facts(**both, container="wav", time_reference=start * 48_000)
    return Facts(
        **both, container="mov", codec="h264", fps=PAL.fps, frames=25 * seconds, timecode=label, timecode_rate=PAL.fps
    )


def large_day(session: Session, recordings: int, cameras: str = "AB", *, number: int = 0) -> tuple[Day, int]:
    """Make a measured day of so many recordings of cameras and a recorder; returns it and one of its pairings."""
    production = days.production_named(session, "The Lantern Ferry")
    day = Day(
        production_id=production.id, number=number or recordings, shot_on=date(2027, 3, 21), folder="/nowhere",
        fps=PAL.fps, tolerance=Fraction(1, 4),
    )  # fmt: skip
    session.add(day)
    session.flush()
    sources = {
        tag: days.make_source(session, day.id, tag=tag, name=f"source {tag}", kind=kind, folder=tag)
        for tag, kind in (*((tag, PICTURE) for tag in cameras), ("S1", SOUND))
    }
    session.flush()
    share = len(cameras) + 1
    for n in range(recordings // share):
        start = 8 * 3600 + n * max(70, 36_000 * share // recordings)
        own = [(tag, PICTURE, start + k, 60 - 5 * (k > 0)) for k, tag in enumerate(cameras)]
        for tag, kind, begins, long in (*own, ("S1", SOUND, start - 3, 66)):
            name = f"{tag}{n:04}" + (".mov" if kind == PICTURE else ".wav")
            facts = _facts(kind, begins, long)
            session.add(
                Recording(
                    day_id=day.id, source_id=sources[tag].id, path=f"{tag}/{name}", name=name, size=1000 + n,
                    modified_ns=1, content=f"{tag}{n:030}", kind=kind, duration=facts.duration, facts=facts,
                )
            )  # fmt: skip
    session.flush()
    pairing.pair_day(session, day)
    one = material.pair(55, 5, snr_db=15)
    found = measure(material.hear(one.picture), material.hear(one.sound))
    for row in pairings.of_day(session, day.id):
        row.state, row.measurement = pairings.MEASURED, found
        session.add(row)
    session.commit()
    return day, pairings.of_day(session, day.id)[0].id


def _database_s(own: cluster.Cluster) -> float:
    """Return CPU seconds of the database's processes that stand."""
    ticks = 0
    head = int((own.data / "postmaster.pid").read_text(encoding="utf-8").split()[0])
    for entry in Path("/proc").iterdir():
        try:
            text = (entry / "stat").read_text(encoding="utf-8") if entry.name.isdigit() else ""
        except OSError:
            continue
        fields = text.rpartition(")")[2].split()
        if fields and int(fields[1]) == head:
            ticks += int(fields[11]) + int(fields[12])
    return ticks / os.sysconf("SC_CLK_TCK")


def timed(own: cluster.Cluster, queries: list[int], work: Callable[[], object], times: int = TIMES) -> str:
    """Return CPU ms of this process and of the database, and the number of queries, as columns."""
    queries[0], at_database, begun = 0, _database_s(own), time.process_time()
    for _ in range(times):
        work()
    cpu, database = time.process_time() - begun, _database_s(own) - at_database
    return f"{cpu / times * 1e3:13.0f}{database / times * 1e3:13.0f}{queries[0] // times:9}"


@contextmanager
def served(home: Path) -> Iterator[tuple[Settings, cluster.Cluster]]:
    own, _ = cluster.have(home / "postgres")
    cluster.start(own)
    try:
        cluster.ensure_database(own)
        settings = Settings(own.url(), home, (home,), person="somebody")
        migrate.to_head(settings.sqlalchemy_url)
        yield settings, own
    finally:
        cluster.stop(own)


def main(scale: float) -> int:
    """Run and print."""
    with tempfile.TemporaryDirectory() as place, served(Path(place)) as (settings, own):
        app = create_app(settings)
        app.config["WTF_CSRF_ENABLED"] = False
        client = app.test_client()
        queries = [0]

        @event.listens_for(engine(settings.sqlalchemy_url, quick=True), "before_cursor_execute")
        def _count(*_: Any) -> None:
            queries[0] += 1

        for recordings in (400, 2000) if scale >= 1 else (400,):
            with open_session(settings.sqlalchemy_url) as session:
                day, pair = large_day(session, recordings)
                number, row = day.id, session.get(Recording, 1)
                version = [pairings.get(session, pair).version]
                chosen = row.id if row else 1
            print(f"\n{recordings} recordings, {recordings * 2 // 3} pairings   CPU ms  database ms  queries     kB")
            for name, address in (
                ("Day", f"/days/{number}/"),
                ("Intake", f"/days/{number}/intake"),
                ("Clocks", f"/days/{number}/clocks"),
                ("Bench", f"/bench/{pair}"),
                ("Turnover", f"/days/{number}/turnover"),
                ("a recording", f"/recordings/{chosen}"),
                ("Journal", f"/days/{number}/journal"),
                ("Watching", f"/days/{number}/watching"),
            ):
                answer = client.get(address, follow_redirects=True)
                if answer.status_code != 200:
                    print(f"{name}: {answer.status_code}")
                    continue
                found = timed(own, queries, lambda address=address: client.get(address, follow_redirects=True))
                print(f"{name:30}{found}{len(answer.data) / 1e3:7.0f}")
            with open_session(settings.sqlalchemy_url) as session:
                many, _ = large_day(session, recordings, "ABCDEFGHIJK")
                crowded = f"/days/{many.id}/clocks"
            client.get(crowded)
            found = timed(own, queries, lambda crowded=crowded: client.get(crowded))
            print(f"{'Clocks of twelve devices':30}{found}{len(client.get(crowded).data) / 1e3:7.0f}")
            # Everything above is remembered; here a row that all of it rests on was changed just before.

            def slip(pair: int = pair, version: list[int] = version) -> int:
                sent = {"version": version[0], "frames": "1", "tenths": "0", "samples": "0", "seconds": "0"}
                partial = {"HX-Request-Type": "partial"}
                answer = client.post(f"/bench/{pair}/slip", data=sent, headers=partial)
                version[0] += 1
                return len(answer.data) if answer.status_code == 200 else -1

            slip()  # as every page above, it is asked once before
            print(f"{'a slip on the bench':30}{timed(own, queries, slip)}{slip() / 1e3:7.0f}")
            for name in ("", "clocks", "turnover"):
                address = f"/days/{number}/{name}"
                spent = []
                for _ in range(TIMES):
                    slip()
                    spent.append(timed(own, queries, lambda address=address: client.get(address), times=1))
                print(f"{(name or 'day').title() + ', just after a slip':30}{sorted(spent)[TIMES // 2]}")
            with open_session(settings.sqlalchemy_url) as session:
                session.get(Recording, chosen).aside = "as a person said"
                session.commit()
            for name, address in (("Day", f"/days/{number}/"), ("Intake", f"/days/{number}/intake")):
                overview.forget()
                print(
                    f"{name + ', every row read anew':30}"
                    f"{timed(own, queries, lambda address=address: client.get(address), times=1)}"
                )
    return 0
