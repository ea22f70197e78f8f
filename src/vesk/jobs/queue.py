"""The task queue: PostgreSQL holds the jobs, workers anywhere take them."""

from __future__ import annotations

import logging
from functools import lru_cache
from typing import Any

import procrastinate
from procrastinate.exceptions import AlreadyEnqueued
from sqlmodel import Session

from vesk.settings import Settings

HEARTBEAT_S = 2.0
STALLED_S = 8.0  # four heartbeats: a busy machine may miss one or two
URGENT, SOON, AFTER, LATER = 20, 10, 5, 0


@lru_cache(maxsize=1)
def _sender() -> procrastinate.App:
    """Return an app that only enqueues, always on the caller's own connection."""
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector())


def enqueue(session: Session, task: str, *, priority: int = SOON, lock: str | None = None, **values: Any) -> None:
    """Put a job into the queue, in the transaction of `session`: both happen or neither."""
    connection = session.connection().connection.driver_connection
    deferrer = _sender().configure_task(
        task,
        allow_unknown=True,
        priority=priority,
        lock=lock,
        queueing_lock=f"{task}:{values}",
        connection=connection,
    )
    # The queue writes on the driver's connection, beside the session: so the savepoint is set by hand.
    session.connection().exec_driver_sql("SAVEPOINT enqueue")
    try:
        deferrer.defer(**values)
    except AlreadyEnqueued:
        session.connection().exec_driver_sql("ROLLBACK TO SAVEPOINT enqueue")  # it waits already
    session.connection().exec_driver_sql("RELEASE SAVEPOINT enqueue")


def worker_app(settings: Settings) -> procrastinate.App:
    """Return the app that a worker runs."""
    from vesk.jobs.tasks import tasks  # noqa: PLC0415 - tasks enqueue through this module

    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=settings.database_url, min_size=1, max_size=4)
    )
    app.add_tasks_from(tasks, namespace="vesk")
    return app


def work(settings: Settings, *, name: str) -> None:
    """Run one worker until it is told to stop; it takes one job at a time."""
    logging.getLogger("procrastinate").setLevel(logging.WARNING)
    worker_app(settings).run_worker(
        name=name,
        concurrency=1,
        update_heartbeat_interval=HEARTBEAT_S,
        stalled_worker_timeout=STALLED_S,
        fetch_job_polling_interval=2.0,
        shutdown_graceful_timeout=2.0,
        delete_jobs="successful",
    )
