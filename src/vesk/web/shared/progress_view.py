"""What the progress line says: a day's long work in one sentence and one bar."""

from __future__ import annotations

from dataclasses import dataclass

from sqlmodel import Session

from vesk.store import progress
from vesk.store.progress import OPEN
from vesk.store.tables import Progress


@dataclass(frozen=True, slots=True)
class ProgressLine:
    """Long work as shown: what runs, how many pieces are done, which failed; the stamp changes with any of it."""

    text: str
    done: int
    total: int
    open: bool
    failed: tuple[str, ...]
    stamp: str

    @property
    def percent(self) -> int:
        """Pieces of work that ended, of all, 0 to 100."""
        return round(100 * self.done / self.total) if self.total else 0


def progress_line(session: Session, day_id: int) -> ProgressLine:
    """Return a day's progress."""
    rows = progress.of_day(session, day_id)
    running = [row for row in rows if row.state == "running"]
    still = [row for row in rows if row.state in OPEN]
    batch = _batch(rows)
    ended = [row for row in batch if row.state not in OPEN]
    text = ""
    if still:
        now = running[0] if running else still[0]
        part = f" ({now.done} of {now.total})" if now.total > 1 else ""
        text = f"{now.what}{part}" if running else f"waiting for a worker: {now.what}"
    failed = tuple(f"{row.what}: {row.problem}" for row in rows if row.state == "failed")
    over = [row for row in rows if row.state not in OPEN]
    newest = max((row.changed_at.timestamp() for row in over), default=0)
    stamp = f"{len(rows)}-{len(over)}-{newest:.3f}"
    return ProgressLine(text, len(ended), len(batch), bool(still), failed, stamp)


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
