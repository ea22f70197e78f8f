"""Asking for work that pages show: its row of progress and its job, both or neither."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlmodel import Session

from vesk.core.kinds import Work
from vesk.jobs.queue import enqueue_all
from vesk.store import progress


@dataclass(frozen=True, slots=True)
class Tracked:
    """A kind of work with progress: its task, and the argument that names what it is about."""

    task: str
    argument: str


TRACKED = {
    "intake": Tracked("vesk:intake", "day_id"),
    "listen": Tracked("vesk:listen", "recording_id"),
    "sync points": Tracked("vesk:find_sync_points", "recording_id"),
    "merge": Tracked("vesk:merge", "day_id"),
    "pair": Tracked("vesk:pair", "day_id"),
    "compare": Tracked("vesk:compare", "day_id"),
    "search": Tracked("vesk:search", "recording_id"),
    "measure": Tracked("vesk:measure", "pairing_id"),
    "deliver": Tracked("vesk:deliver", "turnover_id"),
    "light copy": Tracked("vesk:light", "recording_id"),
}


def ask(
    session: Session, day_id: int, kind: Work, what: Mapping[int, str], *, priority: int, one_by_one: bool = False
) -> None:
    """Open pieces of work of one kind and enqueue them; what waits already is not asked for twice.

    Parameters
    ----------
    session : Session
    day_id : int
    kind : Work
    what : mapping of int to str
        What each is about, and how pages tell it; in the order in which they are begun.
    priority : int
    one_by_one : bool
        Whether two about the same never run at once.
    """
    if not what:
        return
    tracked = TRACKED[kind]
    progress.open_all(session, day_id=day_id, kind=kind, what=what)
    enqueue_all(
        session, tracked.task,
        [({tracked.argument: number}, f"{kind}-{number}" if one_by_one else None) for number in what],
        priority=priority,
    )  # fmt: skip
