"""Recordings."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store.tables import Recording


def of_day(session: Session, day_id: int) -> list[Recording]:
    """Return a day's recordings by path."""
    return list(session.exec(select(Recording).where(Recording.day_id == day_id).order_by(Recording.path)))


def ready_of_day(session: Session, day_id: int) -> list[Recording]:
    """Return those that can be used."""
    query = select(Recording).where(Recording.day_id == day_id, Recording.state == "ready")
    return list(session.exec(query.order_by(Recording.path)))


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
    before = select(Recording.id).where(Recording.day_id == row.day_id, col(Recording.path) < row.path)
    after = select(Recording.id).where(Recording.day_id == row.day_id, col(Recording.path) > row.path)
    return (
        session.exec(before.order_by(col(Recording.path).desc()).limit(1)).first(),
        session.exec(after.order_by(col(Recording.path)).limit(1)).first(),
    )
