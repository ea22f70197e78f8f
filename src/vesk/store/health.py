"""How Vesk is: what waits, runs and failed, since when, who works where, and how much room is left."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import text
from sqlmodel import Session

from vesk.core.room import lasts_s
from vesk.store import machines
from vesk.store.columns import now


@dataclass(frozen=True, slots=True)
class Queue:
    """Numbers of jobs and workers; seconds that the oldest job has waited."""

    waiting: int
    running: int
    failed: int
    oldest_s: float
    workers: int


@dataclass(frozen=True, slots=True)
class RoomLeft:
    """The disk of Vesk's folder: bytes free, hours until it is full at today's pace, and what the cache holds.

    None where that is not known, or the disk does not fill up.
    """

    free_bytes: int
    full_in_h: float | None
    cache_bytes: int | None


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
            "SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat"
            " BETWEEN now() - make_interval(secs => :seconds) AND now() + make_interval(secs => :seconds)"
        ),
        {"seconds": machines.WORKING_S},
    )
    return Queue(waiting, running, failed, round(float(oldest), 1), workers.scalar_one())


def room(session: Session, var: Path) -> RoomLeft:
    """Return how much room is left where Vesk keeps things.

    Parameters
    ----------
    session : Session
    var : Path
        Vesk's folder.
    """
    left = shutil.disk_usage(var).free
    kept = machines.room_today(session)
    full = lasts_s([*((one.at.timestamp(), one.free_bytes) for one in kept), (now().timestamp(), left)])
    cache = kept[-1].cache_bytes if kept else None
    return RoomLeft(left, None if full is None else round(full / 3600, 1), cache)
