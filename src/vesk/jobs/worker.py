"""One worker: takes a job at a time, says that it lives, and ends itself where it could not be trusted any more.

A worker whose database connection broke may hold a job that nobody knows of. It ends; its supervisor starts another,
and the job is taken up again. Nothing of a job counts until it commits.
"""

from __future__ import annotations

import asyncio
import logging
import os
import socket
import time
from collections.abc import Awaitable, Callable
from typing import Any

import procrastinate
import psycopg

from vesk.jobs import tending
from vesk.jobs.tasks import tasks
from vesk.settings import Settings

HEARTBEAT_S = 2.0
_TEND_S = 2.5
_AWAY_S = 20.0  # without a database for this long, a worker begins anew
_ENDING_S = 6.0
_AGAIN = 75  # the exit code that says: start me again
log = logging.getLogger(__name__)


def worker_app(settings: Settings) -> procrastinate.App:
    """Return the app that a worker runs.

    What it says of its jobs waits for no disk, as their work does not: after a power cut a job is done again.
    """
    at_once = {"options": "-c synchronous_commit=off"}
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=settings.database_url, kwargs=at_once, min_size=1, max_size=4)
    )
    app.add_tasks_from(tasks, namespace="vesk")
    return app


class _Watch:
    """Looks at one worker from beside it."""

    def __init__(self, name: str) -> None:
        self._name = name
        self.worker: Any = None
        self._seen = time.monotonic()
        self._ending: float | None = None
        self._lost = 0

    async def middleware(self, call: Callable[[], Awaitable[Any]], _context: Any, worker: Any) -> Any:
        """Learn which worker this is, at its first job."""
        self.worker = worker
        return await call()

    async def look(self, settings: Settings) -> None:
        """Tend the queue; end this process where it holds a job that nobody knows of."""
        try:
            async with await psycopg.AsyncConnection.connect(settings.database_url, connect_timeout=5) as connection:
                await tending.say(connection, self._name, socket.gethostname())
                await tending.tend(connection)
                lost = self.worker is not None and await tending.is_lost(connection, self.worker)
            self._seen = time.monotonic()
            self._lost = self._lost + 1 if lost else 0
        except psycopg.OperationalError as error:
            log.warning("the database does not answer: %s", error)
        except psycopg.Error:
            self._seen = time.monotonic()  # it answers, and says no: that is ours to mend, and no reason to end
            log.exception("the queue could not be tended")
        now = time.monotonic()
        stopping = self.worker is not None and self.worker._stop_event.is_set()  # noqa: SLF001 - it tells nobody else
        self._ending = (self._ending or now) if stopping else None
        if now - self._seen > _AWAY_S or self._lost > 1 or (self._ending and now - self._ending > _ENDING_S):
            log.error("this worker begins anew")
            os._exit(_AGAIN)


def work(settings: Settings, *, name: str) -> None:
    """Run one worker until it is told to stop; it takes one job at a time."""
    watch = _Watch(name)

    async def run() -> None:
        async def look() -> None:
            while True:
                await watch.look(settings)
                await asyncio.sleep(_TEND_S)

        app = worker_app(settings)
        async with app.open_async():
            beside = asyncio.create_task(look())
            await app.run_worker_async(
                name=name,
                concurrency=1,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=tending.STALLED_S,
                fetch_job_polling_interval=2.0,
                shutdown_graceful_timeout=2.0,
                delete_jobs="successful",
                worker_middleware=[watch.middleware],
            )
            beside.cancel()

    asyncio.run(run())
