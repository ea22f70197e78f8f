"""Who works, on which machines, and how much room is left where Vesk keeps things."""

# No `from __future__ import annotations` here: table models read their annotations.
from datetime import datetime, timedelta

from sqlalchemy import BigInteger, Column, delete, func
from sqlmodel import Field, Session, col, select

from vesk.store.columns import moment, now
from vesk.store.row import Row

WORKING_S = 8.0  # since a worker last looked after the queue
_KEPT = timedelta(days=30)
_TODAY = timedelta(hours=24)


class WorkerSeen(Row, table=True):
    """A worker, and when it last looked after the queue."""

    __tablename__ = "worker_seen"
    name: str = Field(primary_key=True)
    host: str
    since: datetime = Field(default_factory=now, sa_column=moment())
    seen_at: datetime = Field(default_factory=now, sa_column=moment())


class Room(Row, table=True):
    """How much room was left where Vesk keeps things, and how much its cache held."""

    id: int = Field(default=None, primary_key=True)
    at: datetime = Field(default_factory=now, sa_column=moment())
    free_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))
    cache_bytes: int = Field(sa_column=Column(BigInteger, nullable=False))


def at_work(session: Session) -> dict[str, int]:
    """Return how many workers each host has now."""
    near = col(WorkerSeen.seen_at).between(now() - timedelta(seconds=WORKING_S), now() + timedelta(seconds=WORKING_S))
    query = select(WorkerSeen.host, func.count()).where(near)
    return dict(session.exec(query.group_by(WorkerSeen.host).order_by(WorkerSeen.host)).all())


def note_room(session: Session, *, free_bytes: int, cache_bytes: int) -> None:
    """Keep how much room there is now; what is older than a month goes, and workers not seen for a day."""
    session.add(Room(free_bytes=free_bytes, cache_bytes=cache_bytes))
    session.execute(delete(Room).where(col(Room.at) < now() - _KEPT))
    session.execute(delete(WorkerSeen).where(col(WorkerSeen.seen_at) < now() - _TODAY))


def room_today(session: Session) -> list[Room]:
    """Return what was kept of the room in the last day, in order."""
    return list(session.exec(select(Room).where(Room.at > now() - _TODAY).order_by(col(Room.at))))
