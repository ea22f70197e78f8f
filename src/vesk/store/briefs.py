"""How each day stands in short, kept for as long as nothing was done to it: lists of many days read no day whole."""

# No `from __future__ import annotations` here: table models read their annotations.
from dataclasses import dataclass

from sqlalchemy import Column, ForeignKey, Integer, text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, select

from vesk import VERSION
from vesk.store.row import Row


class DayBrief(Row, table=True):
    """How a day stood when its mark was this: questions left, and a few words."""

    __tablename__ = "day_brief"
    day_id: int = Field(
        default=None, sa_column=Column(Integer, ForeignKey("day.id", ondelete="CASCADE"), primary_key=True)
    )
    mark: str
    answers: int
    says: str


@dataclass(frozen=True, slots=True)
class DayMark:
    """What changes whenever a person or a worker did something to a day; and whether work is open there."""

    mark: str
    is_open: bool


# Whatever a person does writes a line of the journal, whatever a worker does changes a piece of work.
_MARKS = text(
    "SELECT day.id, day.version || ' ' || coalesce(line.newest, 0) || ' ' || coalesce(work.mark, ''),"
    " coalesce(work.open, false) FROM day"
    " LEFT JOIN (SELECT day_id, max(id) AS newest FROM journal GROUP BY day_id) line ON line.day_id = day.id"
    " LEFT JOIN (SELECT day_id, count(*) || ' ' || max(changed_at) AS mark,"
    " bool_or(state IN ('waiting', 'running')) AS open FROM progress GROUP BY day_id) work ON work.day_id = day.id"
)


def marks(session: Session) -> dict[int, DayMark]:
    """Return the mark of every day."""
    return {row[0]: DayMark(f"{VERSION} {row[1]}", bool(row[2])) for row in session.execute(_MARKS)}


def every(session: Session) -> dict[int, DayBrief]:
    """Return what is kept, by day."""
    return {row.day_id: row for row in session.exec(select(DayBrief))}


def keep(session: Session, day_id: int, *, mark: str, answers: int, says: str) -> None:
    """Keep how a day stands."""
    values = {"mark": mark, "answers": answers, "says": says}
    query = insert(DayBrief).values(day_id=day_id, **values)
    session.execute(query.on_conflict_do_update(index_elements=["day_id"], set_=values))
