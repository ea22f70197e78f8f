"""How much sooner a day is there with more workers, and what an hour of material costs."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from faults import Served

from vesk.core.kinds import Work
from vesk.simulator import scenario, shoot
from vesk.store import progress, recordings
from vesk.store.session import open_session


def main(scale: float) -> int:
    """Take the same day in with 1, 2 and 4 workers; print."""
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
