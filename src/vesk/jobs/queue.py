"""The task queue: PostgreSQL holds the jobs, workers anywhere take them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache
from typing import Any

import procrastinate
from procrastinate.exceptions import AlreadyEnqueued
from sqlmodel import Session

URGENT, SOON, AFTER, LATER, LAST, AHEAD, IDLE = 20, 10, 5, 0, -5, -8, -10


@lru_cache(maxsize=1)
def _sender() -> procrastinate.App:
    """Return an app that only enqueues, always on the caller's own connection."""
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector())


def hasten(session: Session, task: str, *, to: int, **values: Collection[int]) -> None:
    """Have jobs that wait taken before what they were behind, in the transaction of `session`.

    Parameters
    ----------
    session : Session
    task : str
    to : int
        Their priority from now on, where it was lower.
    **values : collection of int
        The one value that tells which: its name, and those that are meant.
    """
    ((name, numbers),) = values.items()
    session.connection().exec_driver_sql(
        "UPDATE procrastinate_jobs SET priority = %s WHERE status = 'todo' AND task_name = %s AND priority < %s "
        "AND (args ->> %s)::int = ANY(%s)",
        (to, task, to, name, sorted(numbers)),
    )


def enqueue(
    session: Session, task: str, *, priority: int = SOON, lock: str | None = None, queueing: str = "", **values: Any
) -> None:
    """Put a job into the queue, in the transaction of `session`: both happen or neither.

    One that waits already with the same values, and the same `queueing`, is not put there twice.
    """
    enqueue_all(session, task, [(values, lock)], priority=priority, queueing=queueing)


def enqueue_all(
    session: Session,
    task: str,
    asked: Sequence[tuple[Mapping[str, Any], str | None]],
    *,
    priority: int = SOON,
    queueing: str = "",
) -> None:
    """Put many jobs of one task into the queue in one go, as `enqueue` does each.

    Parameters
    ----------
    session : Session
    task : str
    asked : sequence of (mapping, str or None)
        What each is called with, and its lock.
    priority : int
    queueing : str
    """
    by_lock = {f"{task}:{values}{queueing}": (dict(values), lock) for values, lock in asked}
    # Held until this commits: whoever took one that waits now would not see what it is asked again for.
    held = (
        "SELECT queueing_lock FROM procrastinate_jobs WHERE queueing_lock = ANY(%s) AND status = 'todo'"
        " ORDER BY id FOR SHARE"
    )
    for waits in session.connection().exec_driver_sql(held, (list(by_lock),)).scalars().all():
        del by_lock[waits]
    if not by_lock:
        return
    connection = session.connection().connection.driver_connection
    deferrer = _sender().configure_task(task, allow_unknown=True, priority=priority)
    jobs = [
        deferrer.make_new_job(**values).evolve(queueing_lock=once, lock=lock)
        for once, (values, lock) in by_lock.items()
    ]
    # The queue writes on the driver's connection, beside the session: so the savepoint is set by hand.
    session.connection().exec_driver_sql("SAVEPOINT enqueue")
    try:
        _sender().job_manager.batch_defer_jobs(jobs, connection=connection)
    except AlreadyEnqueued:
        session.connection().exec_driver_sql("ROLLBACK TO SAVEPOINT enqueue")  # one waits already, since just now
        if len(by_lock) > 1:
            for values, lock in by_lock.values():
                enqueue_all(session, task, [(values, lock)], priority=priority, queueing=queueing)
    session.connection().exec_driver_sql("RELEASE SAVEPOINT enqueue")
