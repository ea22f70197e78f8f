"""Strikes: sync points of recordings."""

from __future__ import annotations

from collections.abc import Iterable

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store import changes
from vesk.store.recordings import PARTED
from vesk.store.tables import Recording, StrikeRow

HEARD, SEEN = "heard", "seen"
PROPOSED, CONFIRMED, REFUSED = "proposed", "confirmed", "refused"


def of_recordings(session: Session, ids: Iterable[int]) -> dict[int, list[StrikeRow]]:
    """Return the strikes of recordings, the likeliest first."""
    query = select(StrikeRow).where(col(StrikeRow.recording_id).in_(list(ids)))
    found: dict[int, list[StrikeRow]] = {}
    for row in session.exec(query.order_by(col(StrikeRow.likely).desc(), col(StrikeRow.id))):
        found.setdefault(row.recording_id, []).append(row)
    return found


def of_source(session: Session, source_id: int) -> list[StrikeRow]:
    """Return the claps seen on a source's recordings."""
    query = (
        select(StrikeRow)
        .join(Recording, col(Recording.id) == StrikeRow.recording_id)
        .where(Recording.source_id == source_id, Recording.state != PARTED, StrikeRow.how == SEEN)
    )
    return list(session.exec(query.order_by(col(StrikeRow.id))))


def get(session: Session, strike_id: int) -> StrikeRow:
    """Return a strike."""
    row = session.get(StrikeRow, strike_id)
    if row is None:
        raise NotFoundError("That clap is not here any more. Load the page again.")
    return row


def get_for_change(session: Session, strike_id: int, version: int) -> StrikeRow:
    """Return a strike held for change; refuse if somebody decided on it since `version` was shown."""
    recording = session.get(Recording, get(session, strike_id).recording_id)
    changes.hold(session, recording.day_id if recording else 0)
    row = get(session, strike_id)
    changes.compare(row, version, "this clap")
    return row


def forget_proposals(session: Session, recording_id: int) -> list[StrikeRow]:
    """Drop what nobody decided on; return what stays."""
    kept = []
    for row in of_recordings(session, [recording_id]).get(recording_id, []):
        if row.state == PROPOSED:
            session.delete(row)
        else:
            kept.append(row)
    session.flush()
    return kept
