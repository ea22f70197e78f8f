"""Intake: take a folder in and find out what is there."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from sqlmodel import Session, col, select

from vesk.actions.watching import growing
from vesk.core.errors import MediaError, RefusedError
from vesk.core.intake.devices import Made, Proposed, assign, letters_of
from vesk.core.intake.naming import DEFAULT_PATTERNS, read_name
from vesk.core.timecode import FrameRate
from vesk.core.tolerance import Tolerance
from vesk.media import checksum, probe, scan
from vesk.media.facts import PICTURE, SOUND, Facts
from vesk.media.guarded import guarded
from vesk.settings import Settings
from vesk.store import days, journal, recordings
from vesk.store.tables import Day, Recording, Source

_CAMERA_ROLL = re.compile(r"([A-Za-z])[-_ ]?\d+")
_READING_S = 60.0  # facts are read in milliseconds; a file that takes this long is damaged
Report = Callable[[int, int], bool]
"""Called with (done, total); returns whether to go on."""


@dataclass(frozen=True, slots=True)
class TakenIn:
    """What an intake found: counts, and the recordings to listen to."""

    ready: tuple[int, ...]
    new: int
    unreadable: int
    vanished: int


def name_day(
    session: Session,
    settings: Settings,
    *,
    production: str,
    number: int,
    shot_on: date,
    rate: FrameRate,
    folder: str,
) -> Day:
    """Name a production and a shoot day and point it at its folder.

    Raises
    ------
    MediaError
        If the folder is not there or not under an allowed media root.
    RefusedError
        If the production has no name.
    """
    if not production.strip():
        raise RefusedError("The production needs a name.")
    place = scan.allowed(Path(folder), settings.media_roots)
    day = Day(
        production_id=days.production_named(session, production.strip()).id or 0,
        number=number,
        shot_on=shot_on,
        folder=str(place),
        fps=rate.fps,
        drop=rate.drop,
        tolerance=Tolerance().frames,
    )
    session.add(day)
    session.flush()
    journal.note(
        session,
        day_id=day.id or 0,
        by=settings.person,
        what=f"named shoot day {number} at {rate} fps, folder {place}",
    )
    return day


def take_in(session: Session, settings: Settings, day: Day, report: Report = lambda _done, _total: True) -> TakenIn:
    """Walk the day's folder, read each file's facts, and assign sources by folder.

    What was decided about a recording stays; a file that vanished is marked, not forgotten.
    """
    root = scan.allowed(Path(day.folder), settings.media_roots)
    day_id = day.id or 0
    known = {row.path: row for row in recordings.files_of_day(session, day_id)}
    found = list(scan.walk(root))
    still = growing([item.path for item in found])
    new = 0
    seen: set[str] = set()
    for count, item in enumerate(found):
        if not report(count, len(found)):
            break
        path = scan.shown(item.path, root)
        seen.add(path)
        row = known.get(path)
        if row is None:
            row = Recording(day_id=day_id, path=path, name=Path(path).name, size=0, modified_ns=0)
            new += 1
        if item.path in still:
            item = scan.Found(item.path, _GROWING)  # noqa: PLW2901 - it is read as what it is: not there yet
        _read_into(row, item, day)
        session.add(row)
        session.flush()
    else:
        for path, row in known.items():
            if path not in seen and not row.facts:
                session.delete(row)  # nothing was ever read from it or decided about it
            elif path not in seen:
                row.state, row.problem = "vanished", _VANISHED.format(path=path)
                session.add(row)
    _assign_sources(session, day)
    rows = recordings.files_of_day(session, day_id)
    ready = tuple(row.id or 0 for row in rows if row.state == "ready")
    result = TakenIn(ready, new, sum(r.state == "unreadable" for r in rows), sum(r.state == "vanished" for r in rows))
    journal.note(
        session, day_id=day_id, by=settings.person,
        what=f"took in {day.folder}: {len(ready)} recordings, {new} of them new, {result.unreadable} unreadable, "
        f"{result.vanished} vanished",
    )  # fmt: skip
    return result


_GROWING = "it is still being copied; it waits, and comes in with the next intake"
_VANISHED = (
    "{path}: it was here before and is gone. Connect the disk or copy it back; what was decided about it is kept."
)


def _read_into(row: Recording, item: scan.Found, day: Day) -> None:
    try:
        if item.problem:
            raise MediaError(row.path, item.problem)
        stat = item.path.stat()
        if row.state == "ready" and row.facts and (row.size, row.modified_ns) == (stat.st_size, stat.st_mtime_ns):
            return
        serves = row.kind  # a camera may serve as a recorder
        # Kept also when it cannot be read: only then can be said later that it changed.
        row.size, row.modified_ns = stat.st_size, stat.st_mtime_ns
        facts = guarded(item.path, _READING_S, probe.read_facts, item.path)
        facts = facts.as_sound() if serves == SOUND and facts.kind == PICTURE else facts
        row.content = checksum.fast_hash(item.path)
    except (MediaError, RefusedError, OSError) as error:
        reason = f"{error.reason}. {error.advice}" if isinstance(error, MediaError) else str(error)
        row.state, row.problem = "unreadable", f"{row.path}: {reason}".strip()
        return
    row.state, row.problem = "ready", ""
    row.kind, row.duration, row.facts = facts.kind, facts.duration, facts.as_json()
    row.start = facts.span("", "", "", days.rate_of(day)).start_on(days.rate_of(day))


def facts_of(row: Recording) -> Facts:
    """Return a recording's facts as read."""
    return Facts.from_json(row.facts)


def told_slate(rows: Sequence[Recording]) -> tuple[str, str]:
    """Return the scene and take that count for recordings of one take: put right by a person, else the first that says.

    What a recording says by itself is what its file, its report or its name does.
    """
    for row in sorted(rows, key=lambda one: "put" not in one.told):  # stable: else in the order given
        if row.told.get("scene"):
            return row.told["scene"], row.told.get("take", "")
    return "", ""


def propose_tag(folder: str, kind: str, taken: set[str], letters: str = "") -> str:
    """Propose a source's short tag: a camera's by its reel, else by its folder's name.

    Examples
    --------
    >>> propose_tag("A006 main camera", "picture", set()), propose_tag("S1 sound roll 6", "sound", set())
    ('A', 'S1')
    >>> propose_tag("all of it", "picture", {"A"}, "B")
    'B'
    """
    first = folder.split(maxsplit=1)[0] if folder.split() else ""
    roll = _CAMERA_ROLL.fullmatch(first)
    wanted = first if len(first) <= 3 and first.isalnum() else ""
    if kind == PICTURE and roll:
        wanted = roll[1].upper()
    if kind == PICTURE and letters:
        wanted = letters
    if not wanted or wanted in taken:
        pool = (chr(ord("A") + n) for n in range(26)) if kind == PICTURE else (f"S{n}" for n in range(1, 100))
        wanted = next((tag for tag in pool if tag not in taken), f"{kind[0].upper()}{len(taken) + 1}")
    return wanted


def made_by(path: str, facts: Facts, patterns: Sequence[str]) -> Made:
    """Return what a file tells of the device that made it."""
    parts = Path(path).parts
    roll = facts.tape or read_name(Path(path).stem, patterns).get("roll", "")
    folder = parts[0] if len(parts) > 1 else "."
    return Made(folder, facts.kind, facts.camera or facts.originator, letters_of(roll))


def source_name(folder: str) -> str:
    """Return what a source is called at first: its folder's words after the tag."""
    words = folder.split(maxsplit=1)
    return words[1] if len(words) > 1 else folder


def _assign_sources(session: Session, day: Day) -> None:
    """Give every recording without a source one: that of its device, made if it is new."""
    day_id = day.id or 0
    patterns = tuple(day.patterns) or DEFAULT_PATTERNS
    rows = [row for row in recordings.files_of_day(session, day_id) if row.facts]
    sources = list(session.exec(select(Source).where(Source.day_id == day_id).order_by(col(Source.id))))
    proposed = [
        Proposed(
            source.folder, source.kind,
            [made_by(row.path, facts_of(row), patterns) for row in rows if row.source_id == source.id],
        )
        for source in sources
    ]  # fmt: skip
    fresh = [row for row in rows if row.source_id is None and row.state == "ready"]
    given = assign([made_by(row.path, facts_of(row), patterns) for row in fresh], proposed)
    for one in proposed[len(sources) :]:
        tag = propose_tag(one.folder, one.kind, {source.tag for source in sources}, one.letters)
        source = Source(day_id=day_id, tag=tag, name=source_name(one.folder), kind=one.kind, folder=one.folder)
        sources.append(source)
        session.add(source)
    session.flush()
    for row, index in zip(fresh, given, strict=True):
        row.source_id = sources[index].id
        session.add(row)
    session.flush()
