"""Sync points of recordings: what was heard or seen, proposed or decided."""

from __future__ import annotations

from collections.abc import Iterable

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.core.kinds import Decided, Sense
from vesk.store import changes
from vesk.store.recordings import APART
from vesk.store.tables import Recording, SyncPointRow

HEARD, SEEN = Sense
PROPOSED, CONFIRMED, REFUSED = Decided


def of_recordings(session: Session, ids: Iterable[int]) -> dict[int, list[SyncPointRow]]:
    """Return the sync points of recordings, the likeliest first."""
    query = select(SyncPointRow).where(col(SyncPointRow.recording_id).in_(list(ids)))
    found: dict[int, list[SyncPointRow]] = {}
    for row in session.exec(query.order_by(col(SyncPointRow.likely).desc(), col(SyncPointRow.id))):
        found.setdefault(row.recording_id, []).append(row)
    return found


def of_source(session: Session, source_id: int) -> list[SyncPointRow]:
    """Return the claps seen on a source's recordings."""
    query = (
        select(SyncPointRow)
        .join(Recording, col(Recording.id) == SyncPointRow.recording_id)
        .where(Recording.source_id == source_id, Recording.state != APART, SyncPointRow.how == SEEN)
    )
    return list(session.exec(query.order_by(col(SyncPointRow.id))))


def get(session: Session, sync_point_id: int) -> SyncPointRow:
    """Return a sync point."""
    row = session.get(SyncPointRow, sync_point_id)
    if row is None:
        raise NotFoundError("That clap is not here any more. Load the page again.")
    return row


def get_for_change(session: Session, sync_point_id: int, version: int) -> SyncPointRow:
    """Return a sync point held for change; refuse if somebody decided on it since `version` was shown."""
    recording = session.get(Recording, get(session, sync_point_id).recording_id)
    changes.hold(session, recording.day_id if recording else 0)
    row = get(session, sync_point_id)
    changes.compare(row, version, "this clap")
    return row


def forget_proposals(session: Session, recording_id: int) -> list[SyncPointRow]:
    """Drop what nobody decided on; return what stays."""
    kept = []
    for row in of_recordings(session, [recording_id]).get(recording_id, []):
        if row.state == PROPOSED:
            session.delete(row)
        else:
            kept.append(row)
    session.flush()
    return kept
