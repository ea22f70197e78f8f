"""A day of recordings that exist in the database alone: as large as wanted, made in an instant."""

from __future__ import annotations

from datetime import date
from fractions import Fraction
from typing import Any

from vesk.core.facts import Facts
from vesk.core.kinds import PICTURE, SOUND
from vesk.core.timecode import FrameRate, Timecode
from vesk.store import days
from vesk.store.tables import Day, Recording, Source

PAL = FrameRate(Fraction(25))


def picture(label: str, seconds: int = 20, **more: Any) -> Facts:
    """Return the facts of a camera file."""
    values = {
        "kind": PICTURE, "container": "mov", "duration": Fraction(seconds), "fps": Fraction(25), "frames": 25 * seconds,
        "timecode": label, "timecode_rate": Fraction(25), "sample_rate": 48_000, "channels": 1,
        "samples": 48_000 * seconds, "origins": {"timecode": "timecode track"},
    }  # fmt: skip
    return Facts(**{**values, **more})


def sound(label: str, seconds: int = 24, **more: Any) -> Facts:
    """Return the facts of a recorder file."""
    start = Timecode.parse(label, PAL).seconds if label else None
    values = {
        "kind": SOUND, "container": "wav", "duration": Fraction(seconds), "sample_rate": 48_000, "channels": 2,
        "samples": 48_000 * seconds, "time_reference": None if start is None else int(start * 48_000),
        "origins": {"time_reference": "bext", "scene": "iXML", "take": "iXML"},
    }  # fmt: skip
    return Facts(**{**values, **more})


def paper_day(session: Any, files: dict[str, Facts], folder: str = "/nowhere") -> Day:
    """Make a day; a file's source is its folder, with the folder's name as tag."""
    production = days.production_named(session, "The Lantern Ferry")
    day = Day(
        production_id=production.id, number=9, shot_on=date(2027, 3, 21), folder=folder, fps=Fraction(25),
        tolerance=Fraction(1, 4),
    )  # fmt: skip
    session.add(day)
    session.flush()
    sources: dict[str, Source] = {}
    for path, facts in files.items():
        tag = path.split("/")[0]
        if tag not in sources:
            sources[tag] = Source(day_id=day.id, tag=tag, name=f"source {tag}", kind=facts.kind, folder=tag)
            session.add(sources[tag])
            session.flush()
        session.add(
            Recording(
                day_id=day.id, source_id=sources[tag].id, path=path, name=path.split("/")[1], size=1000 + len(path),
                modified_ns=1, content=f"{abs(hash(path)):032x}"[:32], kind=facts.kind, duration=facts.duration,
                facts=facts,
            )
        )  # fmt: skip
    session.commit()
    return day


def recording(session: Any, day: Day, name: str) -> Recording:
    """Return a recording by its file's name."""
    from vesk.store import recordings

    return next(row for row in recordings.files_of_day(session, day.id) if row.name == name)


def source(session: Any, day: Day, tag: str) -> Source:
    """Return a source by its tag."""
    return next(one for one in days.sources(session, day.id) if one.tag == tag)
