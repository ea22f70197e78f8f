"""Around a job: its session, its progress, and what becomes of it when the database goes away in the middle."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager

import procrastinate
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlmodel import Session

from vesk import logs
from vesk.core.errors import StoppedError, VeskError
from vesk.core.kinds import Work, WorkState
from vesk.core.progress import OnProgress
from vesk.jobs.tending import STALLED_S
from vesk.settings import Settings
from vesk.store import progress
from vesk.store.session import engine, open_session

_EVERY_S = 0.3
log = logging.getLogger(__name__)


class DatabaseAwayError(Exception):
    """The database went away, or somebody held what was needed for too long: the job is tried again, whole."""


AGAIN = procrastinate.RetryStrategy(max_attempts=12, wait=2, retry_exceptions=[DatabaseAwayError])


@contextmanager
def persisting(settings: Settings) -> Iterator[Session]:
    """Give a session that is committed at the end, or rolled back whole and the job tried again."""
    try:
        with open_session(settings.sqlalchemy_url, by_person=False) as session:
            yield session
            session.commit()
    except DBAPIError as error:
        if not _is_away(error):
            raise
        engine(settings.sqlalchemy_url).dispose()  # every connection may be broken: the next try opens its own
        raise DatabaseAwayError(str(error.orig)) from error


def _is_away(error: DBAPIError) -> bool:
    """Say whether it is the connection or a wait that failed, rather than what was asked."""
    return error.connection_invalidated or isinstance(error, OperationalError)


@contextmanager
def tracked(settings: Settings, kind: Work, subject_id: int) -> Iterator[tuple[Session, OnProgress]]:
    """Give a session for the work and what to tell its progress to.

    The work's session is committed at the end or rolled back whole; progress is written
    beside it at once. A known error ends the job with its sentence, not with a retry.
    """
    logs.JOB.set(f"{kind} {subject_id}")
    begun = time.monotonic()
    with persisting(settings) as session, persisting(settings) as beside:
        row = progress.find(beside, kind, subject_id)
        if row is not None and row.stop:
            progress.set_state(beside, row, WorkState.STOPPED)
            beside.commit()
            yield session, lambda _done, _total: False
            return
        if row is not None:
            progress.set_state(beside, row, WorkState.RUNNING)
            beside.commit()
        last, heard_of = 0.0, time.monotonic()
        at = (0, 0)
        done_elsewhere = False

        def on_progress(done: int, total: int) -> bool:
            nonlocal last, at, heard_of, done_elsewhere
            at = (done, total)
            if time.monotonic() - last < _EVERY_S:
                return True
            last = time.monotonic()
            fresh = progress.find(beside, kind, subject_id)
            # Who was cut off for that long was given up: what another ended meanwhile stays ended.
            away, heard_of = time.monotonic() - heard_of > STALLED_S, time.monotonic()
            done_elsewhere |= away and fresh is not None and fresh.state not in progress.OPEN
            if fresh is None or done_elsewhere:
                return True
            progress.set_state(beside, fresh, WorkState.RUNNING, done=done, total=total)
            beside.commit()
            return not fresh.stop

        state, problem = WorkState.DONE, ""
        try:
            yield session, on_progress
            session.commit()
        except VeskError as error:
            session.rollback()
            stopped_by_person = isinstance(error, StoppedError)
            state, problem = (WorkState.STOPPED, "") if stopped_by_person else (WorkState.FAILED, str(error))
        except DBAPIError:
            raise  # tried again, or told by the queue
        except Exception:
            session.rollback()
            log.exception("%s %s failed", kind, subject_id)
            state, problem = (
                WorkState.FAILED,
                "An error inside Vesk stopped this; nothing decided was lost. See the worker's log.",
            )
        log.info("%s in %.1f s%s", state, time.monotonic() - begun, f": {problem}" if problem else "")
        fresh = progress.find(beside, kind, subject_id)
        done_elsewhere |= (
            time.monotonic() - heard_of > STALLED_S and fresh is not None and fresh.state not in progress.OPEN
        )
        if fresh is not None and not done_elsewhere:
            stopped = fresh.stop and state == WorkState.DONE
            progress.set_state(
                beside, fresh, WorkState.STOPPED if stopped else state, done=at[1], total=at[1], problem=problem
            )
            beside.commit()
