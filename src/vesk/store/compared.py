"""Recordings compared by their own sound, to tell two devices filed as one from two takes."""

from __future__ import annotations

from sqlmodel import Session, select

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


def keep(session: Session, one: Recording, other: Recording, *, same_moment: bool) -> None:
    """Keep what the comparison of two recordings gave; once for the same contents."""
    of = contents(one, other)
    query = select(ComparedRow).where(
        ComparedRow.one_id == one.id, ComparedRow.other_id == other.id, ComparedRow.of == of
    )
    if session.exec(query).first() is None:
        session.add(ComparedRow(day_id=one.day_id, one_id=one.id, other_id=other.id, of=of, same_moment=same_moment))
