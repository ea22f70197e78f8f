"""How much sooner a day is there with more workers, what an hour of material costs, and a day of many short takes."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from day_files import camera, recorder
from faults import Served

from vesk.core.kinds import Work
from vesk.core.timecode import FrameRate
from vesk.simulator import scenario, shoot
from vesk.simulator.scenario import Rolling, Scenario, Shot
from vesk.store import progress, recordings
from vesk.store.session import open_session


def many(takes: int) -> Scenario:
    """Return a day of takes of 18 to 30 s: two cameras and a recorder each."""
    devices = (camera("A"), camera("B", distance_m=3.0), recorder())
    shots = []
    for take in range(1, takes + 1):
        slate, number, length = str(20 + take // 5), take % 5 + 1, float(18 + 7 * take % 13)
        rolling = tuple(
            Rolling(one.tag, (0.0 if one.kind == "recorder" else 3.0) + 0.37 * place, length - 0.29 * place)
            for place, one in enumerate(devices)
        )
        start = 8 * 3600 + 150 * take
        at = f"{start // 3600:02}:{start // 60 % 60:02}:{start % 60:02}"
        talk = ((8.0, 12.5), (13.0, length - 1.5))
        shots.append(Shot(slate, number, at, length, 5.2, talk, (), take, rolling))
    return Scenario("The Lantern Ferry", 6, "2027-03-18", FrameRate.parse("25"), 5, devices, tuple(shots))


def _solved(served: Served) -> tuple[float, float]:
    """Name the day; return the seconds until all but light copies is done, and those of material."""
    begun = time.monotonic()
    settings = served.name_day()
    while True:
        time.sleep(0.5)
        with open_session(settings.sqlalchemy_url) as session:
            rows = progress.of_day(session, 1)
            done = all(row.kind == Work.LIGHT for row in rows if row.state in progress.OPEN)
            if done and len(rows) > 9:
                return time.monotonic() - begun, sum(float(r.duration) for r in recordings.files_of_day(session, 1))


def of_many_takes(home: Path, takes: int) -> None:
    """Take a day of many takes in with two workers; print."""
    shoot.shoot(many(takes), home / "media", processes=2)
    served = Served(home / "media", home, workers=2)
    before = os.times()
    served.start()
    try:
        seconds, material = _solved(served)
    finally:
        served.end()
    spent = os.times()
    cpu = spent.children_user + spent.children_system - before.children_user - before.children_system
    told = f"{3 * takes} recordings, {material / 3600:.2f} hours: solved after {seconds:.0f} s"
    print(f"{told}; {cpu:.0f} CPU s without the database's")


def main(scale: float) -> int:
    """Take the same day in with 1, 2 and 4 workers, and one of many takes; print."""
    with tempfile.TemporaryDirectory(prefix="vesk-many-") as folder:
        Path(folder).chmod(0o755)
        of_many_takes(Path(folder), max(4, round(130 * scale)))
    with tempfile.TemporaryDirectory(prefix="vesk-machines-") as folder:
        home = Path(folder)
        home.chmod(0o755)
        chosen = scenario.load(shoot.SCENARIOS / "lantern_ferry.toml")
        chosen = chosen if scale >= 1 else chosen.only(before="11:00:00")
        shoot.shoot(chosen, home / "media", processes=2)
        print(f"{len(os.sched_getaffinity(0))} cores; workers, seconds until the day is solved, its light copies made")
        alone = 0.0
        for count in (1, 2, 4):
            (home / str(count)).mkdir()
            served = Served(home / "media", home / str(count), workers=count)
            served.start()
            try:
                begun = time.monotonic()
                settings = served.name_day()
                solved = 0.0
                while True:
                    time.sleep(0.5)
                    with open_session(settings.sqlalchemy_url) as session:
                        rows = progress.of_day(session, 1)
                        open_ = [row for row in rows if row.state in progress.OPEN]
                        if not solved and rows and all(row.kind == Work.LIGHT for row in open_) and len(rows) > 9:
                            solved = time.monotonic() - begun
                        if solved and not open_:
                            seconds = sum(float(row.duration) for row in recordings.files_of_day(session, 1))
                            break
                whole = time.monotonic() - begun
                alone = alone or solved
                faster = f"{alone / solved:.2f} times as fast"
                print(f"  {count}: {solved:6.1f} ({faster}) {whole:6.1f}; {seconds / 60:.0f} min")
            finally:
                served.end()
    return 0
