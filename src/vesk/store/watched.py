"""What was decided while watching: notes of what is wrong, the range that is handed over, rough cuts."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store.tables import KeptRange, Recording, RoughCutRow, WatchNote


def notes(session: Session, recording_ids: Iterable[int]) -> list[WatchNote]:
    """Return what stands to be wrong of some recordings, in the order in which it was said."""
    query = select(WatchNote).where(col(WatchNote.recording_id).in_(list(recording_ids)))
    return list(session.exec(query.where(col(WatchNote.undone_at).is_(None)).order_by(col(WatchNote.id))))


def notes_of_day(session: Session, day_id: int) -> list[WatchNote]:
    """Return what stands to be wrong on a day."""
    query = select(WatchNote).join(Recording, col(Recording.id) == WatchNote.recording_id)
    query = query.where(Recording.day_id == day_id, col(WatchNote.undone_at).is_(None))
    return list(session.exec(query.order_by(col(WatchNote.id))))


def take_back(session: Session, note_id: int) -> WatchNote:
    """Mark a note as taken back.

    Raises
    ------
    NotFoundError
        If it is not there any more.
    """
    row = session.get(WatchNote, note_id)
    if row is None or row.undone_at is not None:
        raise NotFoundError("That note is not here any more. Load the page again.")
    row.undone_at = datetime.now(UTC)
    return row


def ranges_of_day(session: Session, day_id: int) -> dict[int, KeptRange]:
    """Return the range of each picture of a day that is handed over, by recording; those without go out whole."""
    query = select(KeptRange).join(Recording, col(Recording.id) == KeptRange.recording_id)
    query = query.where(Recording.day_id == day_id, col(KeptRange.undone_at).is_(None))
    return {row.recording_id: row for row in session.exec(query.order_by(col(KeptRange.id)))}


def let_range_go(session: Session, recording_id: int) -> None:
    """Have a picture handed over whole again."""
    query = select(KeptRange).where(KeptRange.recording_id == recording_id, col(KeptRange.undone_at).is_(None))
    for row in session.exec(query):
        row.undone_at = datetime.now(UTC)


def rough_cuts_of_day(session: Session, day_id: int) -> list[RoughCutRow]:
    """Return the rough cuts of a day as they stand, by recording; one without a cut is none."""
    query = select(RoughCutRow).join(Recording, col(Recording.id) == RoughCutRow.recording_id)
    query = query.where(Recording.day_id == day_id, col(RoughCutRow.undone_at).is_(None))
    newest = {row.recording_id: row for row in session.exec(query.order_by(col(RoughCutRow.id)))}
    return [row for _, row in sorted(newest.items()) if row.cut is not None and row.cut.cuts]


def rough_cut(session: Session, recording_id: int) -> RoughCutRow | None:
    """Return the rough cut of a recording's moment as it stands."""
    query = select(RoughCutRow).where(RoughCutRow.recording_id == recording_id, col(RoughCutRow.undone_at).is_(None))
    return session.exec(query.order_by(col(RoughCutRow.id).desc()).limit(1)).first()
