"""What keeps the queue honest, done by every worker in turn: jobs of the dead, jobs that kill, work without a job."""

from __future__ import annotations

import json
from typing import Any

from psycopg import AsyncConnection
from psycopg.errors import UniqueViolation

from vesk.jobs.asking import TRACKED

STALLED_S = 8.0  # four heartbeats: a busy machine may miss one or two
MOST_TRIES = 4
_LOCK = 8
_GRACE_S = 15.0  # between the end of a job and the row that says so


_BY_TASK = {one.task: (kind, one.argument) for kind, one in TRACKED.items()}


async def tend(connection: AsyncConnection[Any]) -> None:
    """Take up the jobs of workers that died, set aside the jobs that killed theirs, and mark work that has no job."""
    async with connection.transaction():
        row = await (await connection.execute("SELECT pg_try_advisory_xact_lock(%s, 0)", (_LOCK,))).fetchone()
        if row is None or not row[0]:
            return  # another worker does so just now
        await _take_up(connection)
        await _mark_lost(connection)
        # After a clock was set back, what comes again and again would wait until it is as late as it was.
        await connection.execute(
            "DELETE FROM procrastinate_periodic_defers WHERE defer_timestamp > extract(epoch FROM now()) + %s",
            (_GRACE_S,),
        )


async def say(connection: AsyncConnection[Any], name: str, host: str) -> None:
    """Say that a worker looks after the queue."""
    await connection.execute(
        "INSERT INTO worker_seen (name, host, since, seen_at) VALUES (%s, %s, now(), now())"
        " ON CONFLICT (name) DO UPDATE SET host = excluded.host, seen_at = now()",
        (name, host),
    )


async def _take_up(connection: AsyncConnection[Any]) -> None:
    found = await connection.execute(
        "SELECT job.id, job.task_name, job.args, job.attempts FROM procrastinate_jobs job"
        " LEFT JOIN procrastinate_workers worker ON worker.id = job.worker_id WHERE job.status = 'doing'"
        " AND (worker.id IS NULL OR worker.last_heartbeat NOT BETWEEN now() - make_interval(secs => %s)"
        " AND now() + make_interval(secs => %s)) FOR UPDATE OF job",
        (STALLED_S, STALLED_S),  # who lives has said so since the machine's clock was set back
    )
    for number, task, values, attempts in await found.fetchall():
        if attempts + 1 < MOST_TRIES:
            try:
                async with connection.transaction():
                    await connection.execute(
                        "SELECT procrastinate_retry_job_v2(%s, now(), NULL, NULL, NULL)", (number,)
                    )
            except UniqueViolation:
                # The same was asked for again meanwhile, and waits: it is done once.
                await connection.execute("SELECT procrastinate_finish_job_v1(%s, 'failed', true)", (number,))
            continue
        await connection.execute("SELECT procrastinate_finish_job_v1(%s, 'failed', false)", (number,))
        kind, argument = _BY_TASK.get(task, ("", ""))
        about = values if isinstance(values, dict) else json.loads(values)
        await _fail(connection, kind, about.get(argument), _KILLS)


_KILLS = (
    f"this work ended the worker that did it, {MOST_TRIES} times. It is set aside and the rest goes on; nothing "
    "decided is lost. Look whether that file is damaged, and ask for it again."
)
_LOST = "this work was lost with its worker; nothing decided is lost. Ask for it again."


async def _mark_lost(connection: AsyncConnection[Any]) -> None:
    """Mark as failed what says that it waits or runs, and has no job that would ever end it."""
    jobs = await connection.execute("SELECT task_name, args FROM procrastinate_jobs WHERE status IN ('todo', 'doing')")
    alive = set()
    for task, values in await jobs.fetchall():
        kind, argument = _BY_TASK.get(task, ("", ""))
        about = values if isinstance(values, dict) else json.loads(values)
        alive.add((kind, about.get(argument)))
    still = await connection.execute(
        "SELECT kind, subject_id FROM progress WHERE state IN ('waiting', 'running')"
        " AND changed_at < now() - make_interval(secs => %s)",
        (_GRACE_S,),
    )
    for kind, subject in await still.fetchall():
        if (kind, subject) not in alive:
            await _fail(connection, kind, subject, _LOST)


async def _fail(connection: AsyncConnection[Any], kind: str, subject: int | None, sentence: str) -> None:
    await connection.execute(
        "UPDATE progress SET state = 'failed', problem = %s, changed_at = now() WHERE kind = %s AND subject_id = %s"
        " AND state IN ('waiting', 'running')",
        (sentence, kind, subject),
    )
    if kind == "deliver":
        await connection.execute(
            "UPDATE turnover SET state = 'failed', problem = %s WHERE id = %s AND state IN ('waiting', 'running')",
            (sentence, subject),
        )


async def is_lost(connection: AsyncConnection[Any], worker: Any) -> bool:
    """Say whether the queue thinks that this worker does something, while it does nothing, or does not know it."""
    own = await connection.execute(
        "SELECT (SELECT count(*) FROM procrastinate_jobs WHERE status = 'doing' AND worker_id = %(id)s),"
        " (SELECT count(*) FROM procrastinate_workers WHERE id = %(id)s)",
        {"id": worker.worker_id},
    )
    row = await own.fetchone()
    doing, known = row or (0, 0)
    return not known or bool(doing and not worker._running_jobs)  # noqa: SLF001 - it tells nobody else
