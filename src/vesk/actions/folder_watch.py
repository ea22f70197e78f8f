"""Watch a day's folder: notice what is copied there, once it has stopped growing."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

from sqlmodel import Session

from vesk.core.errors import MediaError, StaleError
from vesk.media import scan
from vesk.settings import Settings
from vesk.store import changes, journal, recordings
from vesk.store.tables import Day

RECENT_S = 10.0  # a file changed within this may still be written to
LOOK_AGAIN_S = 0.7


def growing(paths: Sequence[Path]) -> set[Path]:
    """Return the files that are still being written to: those changed just now are looked at twice."""
    sizes = {}
    for path in paths:
        try:
            stat = path.stat()
        except OSError:
            continue
        if time.time() - stat.st_mtime < RECENT_S:
            sizes[path] = (stat.st_size, stat.st_mtime_ns)
    if not sizes:
        return set()
    time.sleep(LOOK_AGAIN_S)
    found = set()
    for path, before in sizes.items():
        try:
            stat = path.stat()
        except OSError:
            continue
        if (stat.st_size, stat.st_mtime_ns) != before:
            found.add(path)
    return found


def has_news(session: Session, settings: Settings, day: Day) -> bool:
    """Say whether the day's folder holds something that an intake would bring in, mark or mend."""
    try:
        root = scan.allowed(settings.here(day.folder), settings.media_roots)
    except MediaError:
        return False  # the disk is away; it will be looked at again
    rows = {row.path: row for row in recordings.files_of_day(session, day.id)}
    seen, fresh, told = set(), [], False
    for item in scan.walk(root):
        name = scan.shown(item.path, root)
        seen.add(name)
        if item.problem:
            told |= name not in rows
            continue
        try:
            stat = item.path.stat()
        except OSError:
            continue
        row = rows.get(name)
        if row is None or (row.size, row.modified_ns) != (stat.st_size, stat.st_mtime_ns):
            fresh.append(item.path)
    gone = any(row.state != "vanished" and row.path not in seen for row in rows.values())
    return told or gone or bool(set(fresh) - growing(fresh))


def watch(session: Session, settings: Settings, day: Day, *, on: bool) -> None:
    """Begin or end watching a day's folder.

    Raises
    ------
    StaleError
        If somebody did so already.
    """
    changes.hold(session, day.id)
    if day.watched == on:
        raise StaleError(f"{day.folder} is {'watched already' if on else 'not watched'}.")
    day.watched = on
    session.add(day)
    what = f"{'watches' if on else 'watches no longer'} {day.folder}"
    journal.note(session, day_id=day.id, by=settings.person, what=what)
