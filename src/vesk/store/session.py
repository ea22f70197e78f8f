"""Connections to the database."""

from __future__ import annotations

from functools import lru_cache
from threading import Lock

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.orm import SessionTransaction
from sqlmodel import Session

# What a page waits at most for somebody else's lock, and for one statement; and what a worker does.
_QUICK = "-c lock_timeout=4s -c statement_timeout=20s -c idle_in_transaction_session_timeout=60s"
_PATIENT = "-c lock_timeout=60s -c statement_timeout=600s"
QUICK_CONNECTIONS = 40  # a thread of the web server each


_MAKING = Lock()


def engine(url: str, *, quick: bool = False) -> Engine:
    """Return the process's engine for a SQLAlchemy address; a quick one rather fails than lets a person wait."""
    with _MAKING:  # of two that are made at once, one would be lost with its connections open
        return _engine(url, quick=quick)


def forget_engines() -> None:
    """Forget the engines that were made; whoever made them let go of their connections."""
    _engine.cache_clear()


@lru_cache(maxsize=8)
def _engine(url: str, *, quick: bool) -> Engine:
    if quick:
        return create_engine(
            url, pool_size=8, max_overflow=QUICK_CONNECTIONS - 8, pool_timeout=5, pool_pre_ping=True,
            connect_args={"options": _QUICK, "connect_timeout": 5},
        )  # fmt: skip
    return create_engine(
        url,
        pool_size=4,
        max_overflow=12,
        pool_pre_ping=True,
        connect_args={"options": _PATIENT, "connect_timeout": 10},
    )


def open_session(url: str, *, quick: bool = False, by_person: bool = True) -> Session:
    """Open a session; whoever opens it commits and closes it.

    What is not done `by_person` leaves no trail to undo, and waits for no disk: it is written in order, so that
    whatever a person decides on it keeps it too, and the queue says that a job is done after what it did; else the job
    is done again.
    """
    session = Session(engine(url, quick=quick), expire_on_commit=False, info={"by_person": by_person})
    if not by_person:
        event.listen(session, "after_begin", _wait_for_no_disk)
    return session


def _wait_for_no_disk(_session: Session, transaction: SessionTransaction, connection: Connection) -> None:
    if transaction.parent is None:
        connection.exec_driver_sql("SET LOCAL synchronous_commit = off")
