"""What persons put right about recordings, and oddities that are meant so."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlmodel import Session, col, select

from vesk.store.tables import AcceptedRow, OverrideRow, Recording


def standing_of_day(session: Session, day_id: int) -> dict[int, dict[str, OverrideRow]]:
    """Return the newest override that stands, by recording and field."""
    query = (
        select(OverrideRow)
        .join(Recording, col(Recording.id) == OverrideRow.recording_id)
        .where(Recording.day_id == day_id, col(OverrideRow.undone_at).is_(None))
    )
    found: dict[int, dict[str, OverrideRow]] = {}
    for row in session.exec(query.order_by(col(OverrideRow.id))):
        found.setdefault(row.recording_id, {})[row.field] = row
    return found


def put(session: Session, recording_id: int, field: str, value: str, *, by: str) -> None:
    """Put a fact right; the read value stays."""
    session.add(OverrideRow(recording_id=recording_id, field=field, value=value, made_by=by))


def withdraw(session: Session, recording_id: int, field: str) -> int:
    """Undo every override of a field, so that the read value counts again; returns how many stood."""
    query = select(OverrideRow).where(
        OverrideRow.recording_id == recording_id, OverrideRow.field == field, col(OverrideRow.undone_at).is_(None)
    )
    rows = session.exec(query).all()
    for row in rows:
        row.undone_at = datetime.now(UTC)
        session.add(row)
    return len(rows)


def accepted(session: Session, day_id: int) -> dict[str, AcceptedRow]:
    """Return a day's accepted oddities by key."""
    return {row.oddity: row for row in session.exec(select(AcceptedRow).where(AcceptedRow.day_id == day_id))}
