"""Recordings of one kind compared by their own sound: two devices told from two takes, and loops closed."""

from __future__ import annotations

from collections.abc import Mapping

from sqlmodel import Session, col, select

from vesk.core.day.day import Match
from vesk.store.pairings import contents
from vesk.store.tables import ComparedRow, Recording


def of_day(session: Session, day_id: int, members: dict[int, Recording]) -> dict[frozenset[int], bool]:
    """Return which pairs among some recordings of a day were compared as they are now, and what came out."""
    found = {}
    for row in session.exec(select(ComparedRow).where(ComparedRow.day_id == day_id)):
        one, other = members.get(row.one_id), members.get(row.other_id)
        if one is not None and other is not None and row.of == contents(one, other):
            found[frozenset((row.one_id, row.other_id))] = row.same_moment
    return found


def across_of_day(session: Session, day_id: int, members: Mapping[int, Recording]) -> tuple[Match, ...]:
    """Return how recordings of one kind were measured to lie against each other, of those as they are now."""
    found = []
    for row in session.exec(select(ComparedRow).where(ComparedRow.day_id == day_id).order_by(col(ComparedRow.id))):
        one, other = members.get(row.one_id), members.get(row.other_id)
        if row.across is not None and one is not None and other is not None and row.of == contents(one, other):
            found.append(row.across)
    return tuple(found)


def keep(session: Session, one: Recording, other: Recording, *, same_moment: bool, across: Match | None = None) -> None:
    """Keep what the comparison of two recordings gave; once for the same contents."""
    of = contents(one, other)
    query = select(ComparedRow).where(
        ComparedRow.one_id == one.id, ComparedRow.other_id == other.id, ComparedRow.of == of
    )
    row = session.exec(query).first()
    if row is None:
        row = ComparedRow(day_id=one.day_id, one_id=one.id, other_id=other.id, of=of, same_moment=same_moment)
    row.across = across or row.across
    session.add(row)
