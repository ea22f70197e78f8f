"""`vesk demo`: the demo day, built, taken in, measured and served."""

from __future__ import annotations

import argparse
import os
import shutil
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from vesk.cli.serve import serve
from vesk.core.errors import RefusedError
from vesk.core.kinds import Kind, ReportKind
from vesk.services import cluster, keeping, state, supervisor
from vesk.settings import Settings, from_environment

if TYPE_CHECKING:
    from sqlmodel import Session

    from vesk.store.tables import Day

# What the reports of the day say about its devices, entered as a person would.
SOURCES = (
    ("A", "picture", "A006 main camera", "main camera", Fraction(2)),
    ("B", "picture", "B004 far bank", "far bank", Fraction(22)),
    ("C", "picture", "C002 wheelhouse", "wheelhouse", Fraction(15, 10)),
    ("D", "picture", "D001 high speed", "high speed", Fraction(0)),
    ("E", "picture", "E small deck", "small deck", Fraction(4)),
    ("S1", "sound", "S1 sound roll 6", "main recorder", Fraction(6, 10)),
    ("S2", "sound", "S2 engine room", "engine room", Fraction(1)),
)


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("--fresh", action="store_true", help="throw the demo away and start over")
    parser.add_argument("--workers", type=int, default=supervisor.cores())


def run(options: argparse.Namespace) -> int:
    """Serve the demo until Ctrl-C."""
    base = from_environment()
    settings = replace(base, var=base.var / "demo", media_roots=(base.var / "demo" / "media",))
    if options.fresh:
        _throw_away(settings)
    return serve(settings, options.workers, "demo", _prepare)


def _throw_away(settings: Settings) -> None:
    """Throw the demo away, as was asked for; whose database cannot be told for certain stays where it lies."""
    if state.alive(state.read(settings.var)):
        raise RefusedError("The demo is running. End it with ./vesk stop before starting over.")
    own = keeping.find(settings.var)
    if own is not None:
        cluster.stop(own)
        shutil.rmtree(own.data)
    shutil.rmtree(settings.var, ignore_errors=True)


@dataclass(frozen=True, slots=True)
class DemoDay:
    """A day of the demo: its number, date and rate, and the scenario that is shot."""

    number: int
    shot_on: date
    rate: str
    scenario: str


DAYS = (
    DemoDay(6, date(2027, 3, 18), "25", "lantern_ferry.toml"),
    DemoDay(7, date(2027, 3, 19), "23.976", "lantern_ferry_7.toml"),
    DemoDay(8, date(2027, 3, 20), "29.97 DF", "lantern_ferry_8.toml"),
)
REPORT = "S1 sound roll 6/sound report.csv"


def _prepare(settings: Settings, steps: supervisor.Steps) -> None:
    root = settings.media_roots[0]
    for one in DAYS:
        steps(f"media of day {one.number}", partial(_build, root / f"day-{one.number}", one.scenario))
    steps("the demo days", lambda: _name_days(settings, root))


def _build(media: Path, name: str) -> str:
    done = media.parent / f".{media.name}-complete"
    if done.exists():
        return "are there"
    from vesk.simulator import scenario, shoot  # noqa: PLC0415 - a second start does without

    shutil.rmtree(media, ignore_errors=True)
    chosen = scenario.load(shoot.SCENARIOS / name)
    made = shoot.shoot(chosen, media, processes=len(os.sched_getaffinity(0)))
    done.touch()
    return f"{len(made)} recordings built"


def name_sources(session: Session, day: Day) -> None:
    """Enter the day's sources with their microphones' distances, as its reports give them."""
    from vesk.store.tables import Source  # noqa: PLC0415

    for tag, kind, folder, name, metres in SOURCES:
        distance = round(metres * 1000)
        session.add(Source(day_id=day.id, tag=tag, kind=Kind(kind), folder=folder, name=name, distance_mm=distance))
    session.flush()


def _is_named(settings: Settings) -> bool:
    """Ask the database alone: a second start loads nothing of the application."""
    import psycopg  # noqa: PLC0415

    with psycopg.connect(settings.database_url) as connection:
        return connection.execute("SELECT 1 FROM day LIMIT 1").fetchone() is not None


def _name_days(settings: Settings, root: Path) -> str:
    if _is_named(settings):
        return "are there"
    from vesk.actions import intake, reports  # noqa: PLC0415
    from vesk.core.timecode import FrameRate  # noqa: PLC0415
    from vesk.jobs.tasks import ask_intake  # noqa: PLC0415
    from vesk.store.session import open_session  # noqa: PLC0415

    with open_session(settings.sqlalchemy_url) as session:
        for one in DAYS:
            media = root / f"day-{one.number}"
            day = intake.name_day(
                session, settings, production="The Lantern Ferry", number=one.number, shot_on=one.shot_on,
                rate=FrameRate.parse(one.rate), folder=str(media),
            )  # fmt: skip
            if one is DAYS[0]:
                name_sources(session, day)
                text = (media / REPORT).read_text(encoding="utf-8")
                reports.take_up(session, settings, day, name=REPORT, text=text, kind=ReportKind.SOUND)
            ask_intake(session, day.id)
        session.commit()
    return "named; taking it in goes on in the background"
