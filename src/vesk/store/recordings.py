"""Recordings."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store.tables import Recording

PARTED = "parted"


def of_day(session: Session, day_id: int) -> list[Recording]:
    """Return a day's recordings by path: files that are no part of another, and files taken together."""
    return list(session.exec(_whole(day_id).order_by(Recording.path)))


def ready_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return those that can be used."""
    return list(session.exec(_whole(day_id).where(Recording.state == "ready").order_by(Recording.path)))


def files_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return a day's files by path, whether or not they are parts of a recording."""
    query = select(Recording).where(Recording.day_id == day_id, Recording.joined == "")
    return list(session.exec(query.order_by(Recording.path)))


def joined_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return what is, or was, several files taken together, those of files alone first."""
    query = select(Recording).where(Recording.day_id == day_id, Recording.joined != "")
    return list(session.exec(query.order_by(col(Recording.id))))


def parts_of(session: Session, recording_id: int) -> list[Recording]:
    """Return what a recording is made of, in order."""
    row = get(session, recording_id)
    found = by_id(session, {member["id"] for member in row.members})
    return [found[member["id"]] for member in row.members if member["id"] in found]


def is_whole() -> Any:
    """Return the condition that a recording stands for itself."""
    return col(Recording.part_of).is_(None) & (Recording.state != PARTED)


def _whole(day_id: int) -> Any:
    return select(Recording).where(Recording.day_id == day_id, is_whole())


def get(session: Session, recording_id: int) -> Recording:
    """Return a recording."""
    recording = session.get(Recording, recording_id)
    if recording is None:
        raise NotFoundError(f"There is no recording number {recording_id} here.")
    return recording


def by_id(session: Session, ids: set[int]) -> dict[int, Recording]:
    """Return several recordings by their numbers."""
    rows = session.exec(select(Recording).where(col(Recording.id).in_(ids)))
    return {row.id: row for row in rows if row.id is not None}


def neighbours(session: Session, row: Recording) -> tuple[int | None, int | None]:
    """Return the recordings before and after one of its day, by path."""
    before = select(Recording.id).where(Recording.day_id == row.day_id, is_whole(), col(Recording.path) < row.path)
    after = select(Recording.id).where(Recording.day_id == row.day_id, is_whole(), col(Recording.path) > row.path)
    return (
        session.exec(before.order_by(col(Recording.path).desc()).limit(1)).first(),
        session.exec(after.order_by(col(Recording.path)).limit(1)).first(),
    )
