"""Progress of long work: written by workers, read by every page."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import UTC, datetime

from sqlalchemy import func
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from vesk.core.kinds import Work, WorkState
from vesk.store.tables import Progress

OPEN = (WorkState.WAITING, WorkState.RUNNING)


def open_one(session: Session, *, day_id: int, kind: Work, subject_id: int, what: str) -> None:
    """Open a piece of work, or open it again if it had ended; two sessions that do so make one."""
    open_all(session, day_id=day_id, kind=kind, what={subject_id: what})


def open_all(session: Session, *, day_id: int, kind: Work, what: Mapping[int, str]) -> None:
    """Open pieces of work of one kind, or open them again if they had ended; two sessions that do so make one of each.

    Parameters
    ----------
    session : Session
    day_id : int
    kind : Work
    what : mapping of int to str
        What each is about, and how pages tell it.
    """
    now = datetime.now(UTC)
    fresh = {
        "state": WorkState.WAITING, "problem": "", "stop": False, "done": 0, "total": 0, "opened_at": now,
        "changed_at": now,
    }  # fmt: skip
    query = insert(Progress)
    # In one order everywhere: two that open the same ones never wait for each other.
    rows = [
        {"day_id": day_id, "kind": kind, "subject_id": number, "what": said, **fresh}
        for number, said in sorted(what.items())
    ]
    set_ = {"what": query.excluded.what, **fresh}
    session.execute(query.on_conflict_do_update(index_elements=["day_id", "kind", "subject_id"], set_=set_), rows)


def find(session: Session, kind: Work, subject_id: int) -> Progress | None:
    """Return the row of a piece of work, read afresh."""
    query = select(Progress).where(Progress.kind == kind, Progress.subject_id == subject_id)
    return session.exec(query.execution_options(populate_existing=True)).first()


def set_state(
    session: Session, row: Progress, state: WorkState, *, done: int = 0, total: int = 0, problem: str = ""
) -> None:
    """Write how far it is."""
    row.state, row.done, row.total, row.problem = state, done, total, problem
    row.changed_at = datetime.now(UTC)
    session.add(row)


def of_day(session: Session, day_id: int) -> list[Progress]:
    """Return a day's pieces of work, read afresh."""
    query = select(Progress).where(Progress.day_id == day_id).order_by(col(Progress.id))
    return list(session.exec(query.execution_options(populate_existing=True)))


def mark(session: Session, day_id: int) -> str:
    """Return what changes whenever a day's pieces of work do."""
    query = select(func.count(), func.max(Progress.changed_at), func.bool_or(col(Progress.state).in_(OPEN)))
    return " ".join(str(part) for part in session.exec(query.where(Progress.day_id == day_id)).one())


def stop_open(session: Session, day_id: int) -> int:
    """Ask every open piece of work of a day to stop; returns how many."""
    rows = session.exec(select(Progress).where(Progress.day_id == day_id, col(Progress.state).in_(OPEN))).all()
    for row in rows:
        row.stop = True
        session.add(row)
    return len(rows)


def subjects(session: Session, kinds: Collection[Work]) -> list[int]:
    """Return what open work of some kinds is about."""
    query = select(Progress.subject_id).where(col(Progress.kind).in_(kinds), col(Progress.state).in_(OPEN))
    return list(session.exec(query))
