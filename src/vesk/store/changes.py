"""The one way to change a day: take it, compare with what was shown, act, write it down in the journal.

Every change of a day's rows, by a person or by a worker, begins with `hold`. Whoever waited sees the day as it is then,
so nobody writes over what he did not see: a person's act is compared with the version it was made on, and long work,
which holds nothing while it lasts, looks again whether what it rested on still stands.
"""

from __future__ import annotations

from typing import Protocol
from uuid import uuid4

from sqlalchemy import event
from sqlalchemy.orm import SessionTransaction, object_mapper
from sqlalchemy.orm.attributes import flag_modified
from sqlmodel import Session

from vesk.core.errors import StaleError

_DAYS, _NAMING = 6, 7  # advisory locks: one day's rows; the making of days


class Versioned(Protocol):
    """A row whose version counts what was said of it."""

    id: int
    version: int


def hold(session: Session, day_id: int) -> None:
    """Wait until nobody else changes this day, and see it as it is now; held until the transaction ends."""
    _take(session, _DAYS, day_id)


def hold_naming(session: Session) -> None:
    """Wait until nobody else names a production or a day; held until the transaction ends."""
    _take(session, _NAMING, 0)


def _take(session: Session, kind: int, number: int) -> None:
    held: set[tuple[int, int]] = session.info.setdefault("held", set())
    if (kind, number) in held:
        return
    session.flush()
    # What a person changes is written down by the database under the name of this transaction: its entry.
    entry = session.info.setdefault("entry", uuid4().hex[:16] if session.info.get("by_person", True) else "")
    session.connection().exec_driver_sql(
        "SELECT pg_advisory_xact_lock(%s, %s), set_config('vesk.entry', %s, true)", (kind, number, entry)
    )
    held.add((kind, number))
    session.expire_all()  # what was read before may have changed while this waited


@event.listens_for(Session, "after_transaction_end")
def _let_go(session: Session, transaction: SessionTransaction) -> None:
    if transaction.parent is None:
        session.info.pop("held", None)
        session.info.pop("entry", None)


def rest(session: Session) -> None:
    """End a transaction that only read, before long work: nobody waits for it, and it sees afresh what comes after."""
    session.commit()


def compare(row: Versioned, version: int, what: str) -> None:
    """Refuse a change made on another version than there is.

    Raises
    ------
    StaleError
        Naming `what`.
    """
    if row.version != version:
        raise StaleError(
            f"Somebody else changed {what} meanwhile. Nothing of yours was applied: "
            "look at it as it is now and try again.",
            about=(str(object_mapper(row).local_table), row.id),
        )


def count(session: Session, row: Versioned) -> None:
    """Count a change that others may be looking at: of the row itself, or of what hangs on it.

    The library counts what is written; a row that only something else of it changed for is written for its version.
    """
    session.add(row)
    mapper = object_mapper(row)
    if mapper.version_id_col is None:
        row.version += 1  # of a recording, only what persons say of it counts
        return
    if not session.is_modified(row):
        steady = next(key for key, column in mapper.columns.items() if not column.primary_key and key != "version")
        flag_modified(row, steady)
    session.flush()
