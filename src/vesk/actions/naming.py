"""The patterns that a day's file names are read by."""

from __future__ import annotations

from collections.abc import Sequence

from sqlmodel import Session

from vesk.core.intake.naming import DEFAULT_PATTERNS, compiled
from vesk.settings import Settings
from vesk.store import changes, days, journal


def set_patterns(session: Session, settings: Settings, day_id: int, patterns: Sequence[str], *, version: int) -> None:
    """Say by which patterns the day's file names are read; none: those that ship.

    Raises
    ------
    StaleError
        If somebody changed the day since `version`.
    NamingError
        If one cannot be.
    """
    day = days.get_for_change(session, day_id, version)
    kept = list(dict.fromkeys(pattern.strip() for pattern in patterns if pattern.strip()))
    for pattern in kept:
        compiled(pattern)
    day.patterns = [] if tuple(kept) == DEFAULT_PATTERNS else kept
    changes.count(session, day)
    said = ", ".join(kept) or "those that ship"
    journal.note(session, day_id=day.id, by=settings.person, what=f"file names are read by: {said}")
