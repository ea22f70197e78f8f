"""Recordings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import func, update
from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError, RefusedError, StaleError
from vesk.core.kinds import RecordingState
from vesk.store import changes
from vesk.store.tables import CheckRow, Pairing, Recording

READY, UNREADABLE, VANISHED, APART, GONE = RecordingState


def of_day(session: Session, day_id: int) -> list[Recording]:
    """Return a day's recordings by path: files that are no part of another, and files taken together."""
    return list(session.exec(_whole(day_id).order_by(Recording.path)))


def ready_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return those that can be used."""
    return list(session.exec(_whole(day_id).where(Recording.state == READY).order_by(Recording.path)))


def files_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return a day's files by path, whether or not they are parts of a recording."""
    query = select(Recording).where(
        Recording.day_id == day_id, col(Recording.merged).is_(None), Recording.state != GONE
    )
    return list(session.exec(query.order_by(Recording.path)))


def files_of_content(session: Session, day_id: int, content: str) -> list[Recording]:
    """Return a day's files that hold the very same bytes, by path."""
    query = select(Recording).where(
        Recording.day_id == day_id, col(Recording.merged).is_(None), Recording.state != GONE,
        Recording.content == content,
    )  # fmt: skip
    return list(session.exec(query.order_by(Recording.path)))


def merged_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return what is, or was, several files taken together, those of files alone first."""
    query = select(Recording).where(Recording.day_id == day_id, col(Recording.merged).is_not(None))
    return list(session.exec(query.order_by(col(Recording.id))))


def members_of(session: Session, row: Recording) -> list[Recording]:
    """Return what a recording is made of, in order; nothing for one file."""
    found = by_id(session, row.members) if row.members else {}
    return [found[number] for number in row.members if number in found]


def members_of_day(session: Session, day_id: int) -> dict[int, Recording]:
    """Return all of a day's recordings that are members of another, by their numbers."""
    query = select(Recording).where(Recording.day_id == day_id, col(Recording.member_of).is_not(None))
    return {row.id: row for row in session.exec(query)}


def is_whole() -> Any:
    """Return the condition that a recording stands for itself."""
    return col(Recording.member_of).is_(None) & col(Recording.state).not_in((APART, GONE))


def _whole(day_id: int) -> Any:
    return select(Recording).where(Recording.day_id == day_id, is_whole())


def get(session: Session, recording_id: int) -> Recording:
    """Return a recording."""
    recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFoundError(f"There is no recording number {recording_id} here.")
    return recording


def ever_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return every file a day ever had, those that are gone too."""
    query = select(Recording).where(Recording.day_id == day_id, col(Recording.merged).is_(None))
    return list(session.exec(query.order_by(Recording.path)))


def for_change(session: Session, day_id: int, versions: Mapping[int, int]) -> list[Recording]:
    """Return recordings of a day held for change, by path; refuse if somebody changed one since its version was shown.

    Raises
    ------
    RefusedError
        If nothing is selected.
    StaleError
        If one was changed, or does not stand for itself any more.
    """
    changes.hold(session, day_id)
    if not versions:
        raise RefusedError("Nothing is selected: tick the recordings first.")
    rows = [row for row in of_day(session, day_id) if row.id in versions]
    if len(rows) < len(versions):
        raise StaleError(
            "Some of these are parts of another recording now, or not of this day. Look at them as they are now."
        )
    for row in rows:
        changes.compare(row, versions[row.id], row.name)
    return rows


def learn_content(session: Session, row: Recording, content: str) -> None:
    """Keep the hash of every byte of a file that lies as it did; what rests on it as it lay, rests on that now."""
    known, row.content = row.content, content
    session.add(row)
    if known in {"", content}:
        return
    session.flush()
    for table, column in ((CheckRow, col(CheckRow.of)), (Pairing, col(Pairing.measured_of))):
        session.execute(
            update(table).where(column.contains(known)).values({column: func.replace(column, known, content)})
        )


def by_id(session: Session, ids: Iterable[int]) -> dict[int, Recording]:
    """Return several recordings by their numbers."""
    return {row.id: row for row in session.exec(select(Recording).where(col(Recording.id).in_(set(ids))))}


def neighbours(session: Session, row: Recording) -> tuple[int | None, int | None]:
    """Return the recordings before and after one of its day, by path."""
    before = select(Recording.id).where(Recording.day_id == row.day_id, is_whole(), col(Recording.path) < row.path)
    after = select(Recording.id).where(Recording.day_id == row.day_id, is_whole(), col(Recording.path) > row.path)
    return (
        session.exec(before.order_by(col(Recording.path).desc()).limit(1)).first(),
        session.exec(after.order_by(col(Recording.path)).limit(1)).first(),
    )
