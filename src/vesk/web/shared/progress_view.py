"""What the progress line says: a day's long work in one sentence and one bar."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlmodel import Session

from vesk.actions.remembered import Remembered
from vesk.core.progress import WHOLE
from vesk.store import progress
from vesk.store.progress import OPEN
from vesk.store.tables import Progress

_TELLING, _LEAST_S, _MINUTE_S = 0.05, 8.0, 50.0


@dataclass(frozen=True, slots=True)
class ProgressLine:
    """Long work as shown.

    Attributes
    ----------
    text : str
        What runs.
    done, total : int
        Pieces of work that ended, and all.
    share : float
        Of all of it, 0 to 1: what runs counts as far as it is.
    left : str
        About how long it goes on, by what went before; empty while that tells nothing.
    open : bool
    failed : tuple of str
    stamp : str
        Changes when a piece ends.
    """

    text: str
    done: int
    total: int
    share: float
    left: str
    open: bool
    failed: tuple[str, ...]
    stamp: str

    @property
    def percent(self) -> int:
        """How much is done, 0 to 100."""
        return round(100 * self.share)


_KEPT: Remembered[Hashable, ProgressLine] = Remembered(64)


def progress_line(session: Session, day_id: int) -> ProgressLine:
    """Return a day's progress; where nothing is open it is what it was, and pages ask every second."""
    mark = progress.mark(session, day_id)
    key = (session.get_bind().engine.url, day_id, mark)
    line = _KEPT.find(key)
    if line is None:
        line = _reckoned(session, day_id)
        if not line.open:
            _KEPT.keep(key, line)
    return line


def _reckoned(session: Session, day_id: int) -> ProgressLine:
    rows = progress.of_day(session, day_id)
    running = [row for row in rows if row.state == "running"]
    still = [row for row in rows if row.state in OPEN]
    batch = _batch(rows)
    ended = [row for row in batch if row.state not in OPEN]
    text = ""
    if still:
        now = running[0] if running else still[0]
        part = f" ({now.done} of {now.total})" if now.total > 1 else ""
        part = f" ({now.done} %)" if now.total == WHOLE else part
        text = f"{now.what}{part}" if running else f"waiting for a worker: {now.what}"
    failed = tuple(f"{row.what}: {row.problem}" for row in rows if row.state == "failed")
    over = [row for row in rows if row.state not in OPEN]
    newest = max((row.changed_at.timestamp() for row in over), default=0)
    stamp = f"{len(rows)}-{len(over)}-{newest:.3f}"
    inside = sum(min(1.0, row.done / row.total) for row in running if row.total)
    share = (len(ended) + inside) / len(batch) if batch else 0.0
    left = _left(min(row.opened_at for row in batch), share) if still else ""
    return ProgressLine(text, len(ended), len(batch), share, left, bool(still), failed, stamp)


def _left(begun: datetime, share: float) -> str:
    """Say how long it goes on if what is left goes as what went before; pieces differ, so roughly."""
    spent = (datetime.now(UTC) - begun).total_seconds()
    if share < _TELLING or spent < _LEAST_S or share >= 1:
        return ""
    left = spent * (1 - share) / share
    minutes = max(1, round(left / 60))
    return (
        "less than a minute left" if left < _MINUTE_S else f"about {minutes} minute{'' if minutes == 1 else 's'} left"
    )


def _batch(rows: list[Progress]) -> list[Progress]:
    """Return the pieces of work since the last time nothing was open; all where nothing is."""
    still = [row for row in rows if row.state in OPEN]
    if not still:
        return rows
    begun = min(row.opened_at for row in still)
    # What ended after that was open together with it, and may have been opened before.
    for row in sorted(rows, key=lambda row: row.changed_at, reverse=True):
        if row.state not in OPEN and row.changed_at >= begun:
            begun = min(begun, row.opened_at)
    return [row for row in rows if row.opened_at >= begun]
