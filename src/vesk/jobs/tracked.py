"""Progress around a job: what it does, how far it is, whether it was asked to stop."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from sqlmodel import Session

from vesk.core.errors import VeskError
from vesk.settings import Settings
from vesk.store import progress
from vesk.store.session import open_session

Report = Callable[[int, int], bool]
_EVERY_S = 0.3
log = logging.getLogger(__name__)


@contextmanager
def tracked(settings: Settings, kind: str, subject_id: int) -> Iterator[tuple[Session, Report]]:
    """Give a session for the work and a report for its progress.

    The work's session is committed at the end or rolled back whole; progress is written
    beside it at once. A known error ends the job with its sentence, not with a retry.
    """
    with open_session(settings.sqlalchemy_url) as session, open_session(settings.sqlalchemy_url) as beside:
        row = progress.find(beside, kind, subject_id)
        if row is not None and row.stop:
            progress.set_state(beside, row, "stopped")
            beside.commit()
            yield session, lambda _done, _total: False
            return
        if row is not None:
            progress.set_state(beside, row, "running")
            beside.commit()
        last = 0.0
        at = (0, 0)

        def report(done: int, total: int) -> bool:
            nonlocal last, at
            at = (done, total)
            if time.monotonic() - last < _EVERY_S:
                return True
            last = time.monotonic()
            fresh = progress.find(beside, kind, subject_id)
            if fresh is None:
                return True
            progress.set_state(beside, fresh, "running", done=done, total=total)
            beside.commit()
            return not fresh.stop

        state, problem = "done", ""
        try:
            yield session, report
            session.commit()
        except VeskError as error:
            session.rollback()
            state, problem = "failed", str(error)
        except Exception:
            session.rollback()
            log.exception("%s %s failed", kind, subject_id)
            state, problem = (
                "failed",
                "An error inside Vesk stopped this; nothing decided was lost. See the worker's log.",
            )
        fresh = progress.find(beside, kind, subject_id)
        if fresh is not None:
            stopped = fresh.stop and state == "done"
            progress.set_state(beside, fresh, "stopped" if stopped else state, done=at[1], total=at[1], problem=problem)
            beside.commit()
