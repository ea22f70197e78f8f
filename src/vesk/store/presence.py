"""Who is where just now: every open page says so again and again, and is forgotten soon after it is left."""

# No `from __future__ import annotations` here: table models read their annotations.
from datetime import datetime, timedelta

from sqlalchemy import Column, ForeignKey, Integer, delete
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, col, select

from vesk.store.columns import moment, now
from vesk.store.row import Row
from vesk.store.tables import Recording

HERE_S = 5.0  # who said nothing for this long is not there any more


class Presence(Row, table=True):
    """Where somebody is: one open page."""

    tab: str = Field(primary_key=True)
    day_id: int = Field(sa_column=Column(Integer, ForeignKey("day.id", ondelete="CASCADE"), nullable=False, index=True))
    person: str
    page: str
    recording_id: int | None = None  # the take it is about
    seen_at: datetime = Field(default_factory=now, sa_column=moment())


def say(session: Session, *, tab: str, day_id: int, person: str, page: str, recording_id: int | None) -> None:
    """Say that a page is open, and with what."""
    values = {"day_id": day_id, "person": person, "page": page, "recording_id": recording_id, "seen_at": now()}
    query = insert(Presence).values(tab=tab, **values)
    session.execute(query.on_conflict_do_update(index_elements=["tab"], set_=values))


def leave(session: Session, tab: str) -> None:
    """Say that a page is left."""
    session.execute(delete(Presence).where(col(Presence.tab) == tab))


def others(session: Session, day_id: int, tab: str) -> list[tuple[Presence, str]]:
    """Return who else is at a day now, each with the name of the take they look at, or nothing."""
    # Not later than now either: a machine's clock may have been set back.
    near = col(Presence.seen_at).between(now() - timedelta(seconds=HERE_S), now() + timedelta(seconds=HERE_S))
    query = (
        select(Presence, Recording.name)
        .join(Recording, col(Recording.id) == Presence.recording_id, isouter=True)
        .where(Presence.day_id == day_id, Presence.tab != tab, near)
        .order_by(Presence.person, Presence.tab)
    )
    return [(row, name or "") for row, name in session.exec(query)]


def forget(session: Session) -> None:
    """Let go of pages that were left without a word."""
    session.execute(delete(Presence).where(col(Presence.seen_at) < now() - timedelta(hours=1)))
