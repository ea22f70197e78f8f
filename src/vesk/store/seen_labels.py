"""Labels that people read off displays in pictures."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store.tables import Recording, SeenLabel


def of_day(session: Session, day_id: int) -> list[SeenLabel]:
    """Return those of a day that stand, in the order in which they were read."""
    query = select(SeenLabel).join(Recording, col(Recording.id) == SeenLabel.recording_id)
    query = query.where(Recording.day_id == day_id, col(SeenLabel.undone_at).is_(None))
    return list(session.exec(query.order_by(col(SeenLabel.id))))


def take_away(session: Session, label_id: int, recording_id: int) -> SeenLabel:
    """Mark one as taken away; it stays for the history."""
    row = session.get(SeenLabel, label_id)
    if row is None or row.recording_id != recording_id or row.undone_at is not None:
        raise NotFoundError("That label is not here any more. Load the page again.")
    row.undone_at = datetime.now(UTC)
    return row
