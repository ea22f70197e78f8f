"""The journal: everything done, by whom, when."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.store.tables import JournalRow


def note(session: Session, *, day_id: int, by: str, what: str, pairing_id: int | None = None, act: str = "") -> None:
    """Write a line."""
    session.add(JournalRow(day_id=day_id, by=by, what=what, pairing_id=pairing_id, act=act))


def of_day(session: Session, day_id: int, *, most: int = 500) -> list[JournalRow]:
    """Return a day's lines, the newest first."""
    query = select(JournalRow).where(JournalRow.day_id == day_id).order_by(col(JournalRow.id).desc())
    return list(session.exec(query.limit(most)))
