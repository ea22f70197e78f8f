"""Sync points of recordings: what was heard or seen, proposed or decided."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.core.kinds import Decided, Sense
from vesk.store import changes
from vesk.store.recordings import APART
from vesk.store.tables import Recording, SyncPointChange, SyncPointRow

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
        raise NotFoundError("That sync point is not here any more. Load the page again.")
    return row


def get_for_change(session: Session, sync_point_id: int, version: int) -> SyncPointRow:
    """Return a sync point held for change; refuse if somebody decided on it since `version` was shown."""
    recording = session.get(Recording, get(session, sync_point_id).recording_id)
    changes.hold(session, recording.day_id if recording else 0)
    row = get(session, sync_point_id)
    changes.compare(row, version, "this sync point")
    return row


def remember(session: Session, row: SyncPointRow, *, by: str, state: Decided | None = None) -> None:
    """Keep what a sync point is before a person changes it; one just made was, before, not there: refused."""
    session.add(
        SyncPointChange(
            sync_point_id=row.id, name=row.name, kind=row.kind, heard_us=row.heard_us, frame=row.frame,
            state=state or row.state, decided_by=row.decided_by, made_by=by,
        )
    )  # fmt: skip


def last_change(session: Session, sync_point_id: int) -> SyncPointChange | None:
    """Return the newest change of a sync point that stands."""
    query = select(SyncPointChange).where(
        SyncPointChange.sync_point_id == sync_point_id, col(SyncPointChange.undone_at).is_(None)
    )
    return session.exec(query.order_by(col(SyncPointChange.id).desc())).first()


def undo(row: SyncPointRow, change: SyncPointChange) -> None:
    """Make a sync point what it was before a change."""
    row.name, row.kind, row.heard_us, row.frame = change.name, change.kind, change.heard_us, change.frame
    row.state, row.decided_by = change.state, change.decided_by
    change.undone_at = datetime.now(UTC)


def changed(session: Session, ids: Iterable[int]) -> set[int]:
    """Return which sync points have a change that can be undone."""
    query = select(SyncPointChange.sync_point_id).where(
        col(SyncPointChange.sync_point_id).in_(list(ids)), col(SyncPointChange.undone_at).is_(None)
    )
    return set(session.exec(query))


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
