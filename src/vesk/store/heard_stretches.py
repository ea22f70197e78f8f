"""How devices hear in parts of the day, as persons say."""

# No `from __future__ import annotations` here: table models read their annotations.
from datetime import datetime
from fractions import Fraction

from sqlmodel import Field, Session, col, select

from vesk.store.columns import exact, moment, now
from vesk.store.row import Row
from vesk.store.tables import Recording, Source


class HeardStretch(Row, table=True):
    """How a device hears in a part of the day: also what comes in later and lies there.

    Added and undone, never edited; of those that hold a recording, the newest counts.
    """

    __tablename__ = "heard_stretch"
    id: int = Field(default=None, primary_key=True)
    source_id: int = Field(foreign_key="source.id", index=True)
    since: Fraction | None = Field(default=None, sa_column=exact(nullable=True))  # on the day's label clock
    before: Fraction | None = Field(default=None, sa_column=exact(nullable=True))
    distance_mm: int | None = None  # none, like the delay: as its device
    delay_us: int | None = None
    made_by: str
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    undone_at: datetime | None = Field(default=None, sa_column=moment(nullable=True))


def of_day(session: Session, day_id: int) -> list[HeardStretch]:
    """Return what is said of how a day's devices hear in parts of it, the newest last."""
    query = select(HeardStretch).join(Source, col(Source.id) == HeardStretch.source_id).where(Source.day_id == day_id)
    return list(session.exec(query.where(col(HeardStretch.undone_at).is_(None)).order_by(col(HeardStretch.id))))


def recordings_in(session: Session, day_id: int) -> list[Recording]:
    """Return a day's recordings that hear as is said of the part of the day they lie in."""
    return list(session.exec(select(Recording).where(Recording.day_id == day_id, col(Recording.ears_of).is_not(None))))
