"""Undo any entry of the journal: what it changed becomes what it was, if nobody changed the same since."""

from __future__ import annotations

from sqlmodel import Session

from vesk.core.errors import NotFoundError, RefusedError
from vesk.settings import Settings
from vesk.store import changes, journal, trail
from vesk.store.tables import Day


def undo_line(session: Session, settings: Settings, day: Day, line_id: int) -> tuple[str, bool]:
    """Undo what a line of the journal tells; returns what was undone, and whether the day is to be paired again.

    Raises
    ------
    NotFoundError
        If there is no such line on this day.
    StaleError
        If the same was changed again since.
    RefusedError
        If it was undone already, or is nothing that can be.
    """
    changes.hold(session, day.id)
    line = journal.line_of(session, day.id, line_id)
    if line is None:
        raise NotFoundError("There is no such line in the journal of this day.")
    made = trail.of_entry(session, line.entry)
    if journal.is_undone(session, line.entry):
        raise RefusedError("That was undone already. Nothing was changed.")
    if not trail.can_be_undone(made):
        raise RefusedError("That cannot be undone from here. Nothing was changed.")
    trail.undo(session, made)
    what = f"undone: {line.what}" if line.by == settings.person else f"undone, of {line.by}: {line.what}"
    journal.note(
        session, day_id=day.id, by=settings.person, what=what, pairing_id=line.pairing_id, undoes=line.entry
    )  # fmt: skip
    return line.what, trail.says_more_than_found_out(made)
