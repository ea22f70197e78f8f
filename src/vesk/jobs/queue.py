"""The task queue: PostgreSQL holds the jobs, workers anywhere take them."""

from __future__ import annotations

from collections.abc import Collection
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
    once = f"{task}:{values}{queueing}"
    # Held until this commits: whoever took the one that waits now would not see what it is asked again for.
    held = "SELECT 1 FROM procrastinate_jobs WHERE queueing_lock = %s AND status = 'todo' FOR SHARE"
    if session.connection().exec_driver_sql(held, (once,)).first() is not None:
        return
    connection = session.connection().connection.driver_connection
    deferrer = _sender().configure_task(
        task,
        allow_unknown=True,
        priority=priority,
        lock=lock,
        queueing_lock=once,
        connection=connection,
    )
    # The queue writes on the driver's connection, beside the session: so the savepoint is set by hand.
    session.connection().exec_driver_sql("SAVEPOINT enqueue")
    try:
        deferrer.defer(**values)
    except AlreadyEnqueued:
        session.connection().exec_driver_sql("ROLLBACK TO SAVEPOINT enqueue")  # it waits already
    session.connection().exec_driver_sql("RELEASE SAVEPOINT enqueue")
