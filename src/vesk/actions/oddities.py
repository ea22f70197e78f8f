"""Oddities that are meant so."""

from __future__ import annotations

from sqlmodel import Session

from vesk.core.errors import RefusedError, StaleError
from vesk.settings import Settings
from vesk.store import changes, journal, overrides
from vesk.store.tables import AcceptedRow, Day


def accept(session: Session, settings: Settings, day: Day, key: str, note: str) -> None:
    """Say that an oddity is meant so.

    Raises
    ------
    StaleError
        If somebody said so already.
    """
    if not key or len(key) > 500 or len(note) > 300:
        raise RefusedError("A note has 300 characters at most.")
    changes.hold(session, day.id)
    known = overrides.accepted(session, day.id).get(key)
    if known is not None:
        raise StaleError(f"{known.made_by} said already that it is meant so{f': {known.note}' if known.note else ''}.")
    session.add(AcceptedRow(day_id=day.id, oddity=key, note=note.strip(), made_by=settings.person))
    journal.note(session, day_id=day.id, by=settings.person, what=f"meant so: {key}. {note}".strip())


def take_up(session: Session, settings: Settings, day: Day, key: str) -> None:
    """Take an accepted oddity up again.

    Raises
    ------
    StaleError
        If somebody did so already.
    """
    changes.hold(session, day.id)
    row = overrides.accepted(session, day.id).get(key)
    if row is None:
        raise StaleError("It is taken up again already.")
    session.delete(row)
    journal.note(session, day_id=day.id, by=settings.person, what=f"taken up again: {key}")
