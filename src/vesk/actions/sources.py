"""Sources: which recordings belong to which device."""

from __future__ import annotations

import re
from collections.abc import Sequence

from sqlmodel import Session

from vesk.core.errors import RefusedError
from vesk.settings import Settings
from vesk.store import days, journal, recordings
from vesk.store.tables import Day, Recording, Source

_TAG = re.compile(r"[A-Za-z][A-Za-z0-9]{0,3}")


def move(session: Session, settings: Settings, day: Day, ids: Sequence[int], *, to_tag: str) -> int:
    """Move recordings to a source, made if its tag is new; a source left empty goes. Returns how many moved.

    Raises
    ------
    RefusedError
        If nothing is selected, the tag cannot be, or pictures and sounds would share a source.
    """
    tag = to_tag.strip()
    if not _TAG.fullmatch(tag):
        raise RefusedError("A source's tag is a letter and up to three letters or digits, like A or S1.")
    wanted = set(ids)
    rows = [row for row in recordings.ready_of_day(session, day.id or 0) if row.id in wanted]
    if not rows:
        raise RefusedError("Nothing is selected: tick the recordings first.")
    kinds = {row.kind for row in rows}
    if len(kinds) > 1:
        raise RefusedError("Pictures and sounds are selected together: a source is a camera or a recorder.")
    (kind,) = kinds
    target = next((source for source in days.sources(session, day.id or 0) if source.tag == tag), None)
    if target is None:
        target = Source(day_id=day.id or 0, tag=tag, name=f"source {tag}", kind=kind, folder=_folder_of(rows))
        session.add(target)
        session.flush()
    elif target.kind != kind:
        what = "camera" if target.kind == "picture" else "recorder"
        raise RefusedError(f"{tag} is a {what}: {rows[0].name} cannot be of it.")
    moved = [row for row in rows if row.source_id != target.id]
    for row in moved:
        _move_one(session, row, target)
    session.flush()
    _drop_empty(session, day)
    names = ", ".join(row.name for row in moved[:4]) + (f" and {len(moved) - 4} more" if len(moved) > 4 else "")
    if moved:
        journal.note(session, day_id=day.id or 0, by=settings.person, what=f"moved {names} to source {tag}")
    return len(moved)


def _move_one(session: Session, row: Recording, target: Source) -> None:
    """Move a recording, and the files it is made of."""
    row.source_id = target.id
    session.add(row)
    if row.joined:
        for part in recordings.parts_of(session, row.id or 0):
            _move_one(session, part, target)


def _folder_of(rows: list[Recording]) -> str:
    head, _, rest = rows[0].path.partition("/")
    # Not the folder itself: what is copied there later belongs to the source that has it.
    return f"{head if rest else '.'} (moved)"


def _drop_empty(session: Session, day: Day) -> None:
    every = [*recordings.files_of_day(session, day.id or 0), *recordings.joined_of_day(session, day.id or 0)]
    used = {row.source_id for row in every}
    for source in days.sources(session, day.id or 0):
        if source.id not in used:
            session.delete(source)
    session.flush()
