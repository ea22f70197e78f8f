"""How the queue is doing: what waits, runs and failed, since when, and who works."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import text
from sqlmodel import Session

_WORKING_S = 8  # four heartbeats, as `jobs.tending` counts


@dataclass(frozen=True, slots=True)
class Queue:
    """Numbers of jobs and workers; seconds that the oldest job has waited."""

    waiting: int
    running: int
    failed: int
    oldest_s: float
    workers: int


def queue(session: Session) -> Queue:
    """Return how the queue is doing; raises the database's own error where it cannot be asked."""
    jobs = session.connection().execute(
        text(
            "SELECT count(*) FILTER (WHERE job.status = 'todo'), count(*) FILTER (WHERE job.status = 'doing'),"
            " count(*) FILTER (WHERE job.status = 'failed'),"
            " coalesce(extract(epoch FROM now() - min(since.at) FILTER (WHERE job.status = 'todo')), 0)"
            " FROM procrastinate_jobs job LEFT JOIN LATERAL (SELECT min(event.at) AS at FROM procrastinate_events event"
            " WHERE event.job_id = job.id) since ON true"
        )
    )
    waiting, running, failed, oldest = jobs.one()
    workers = session.connection().execute(
        text(
            "SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat > now() - make_interval(secs => :seconds)"
        ),
        {"seconds": _WORKING_S},
    )
    return Queue(waiting, running, failed, round(float(oldest), 1), workers.scalar_one())
