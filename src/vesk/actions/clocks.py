"""By which clock a source is trusted, as a person says: altogether, or for a stretch of the day."""

from __future__ import annotations

import re
from fractions import Fraction

from sqlmodel import Session

from vesk.actions.sources import changed
from vesk.core.errors import NotFoundError, RefusedError, TimecodeError
from vesk.core.kinds import Clock
from vesk.core.timecode import FrameRate, Timecode
from vesk.settings import Settings
from vesk.store import days
from vesk.store.tables import ClockPeriod, Source


def choose_clock(session: Session, settings: Settings, source_id: int, *, version: int, clock: Clock | None) -> Source:
    """Say which clock a source is trusted by; None leaves it to Vesk.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    """
    source = days.get_source_for_change(session, source_id, version)
    source.clock = clock
    what = f"trusted by its {clock}" if clock else "Vesk chooses its clock"
    return changed(session, settings, source, what)


def choose_period(
    session: Session, settings: Settings, source_id: int, *, version: int, since: str, before: str, clock: Clock
) -> Source:
    """Say by which clock a source is trusted from one time of the day to another; the newest said counts.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    RefusedError
        If a time cannot be.
    """
    source = days.get_source_for_change(session, source_id, version)
    rate = days.rate_of(days.get_day(session, source.day_id))
    low, high = (_moment(text, rate) for text in (since, before))
    if low == high:
        raise RefusedError("A stretch of the day ends later than it begins.")
    session.add(ClockPeriod(source_id=source_id, since=low, before=high, clock=clock, made_by=settings.person))
    return changed(session, settings, source, f"trusted by its {clock} from {since.strip()} to {before.strip()}")


def _moment(text: str, rate: FrameRate) -> Fraction:
    """Read a time of day: HH:MM, HH:MM:SS or a whole label."""
    plain = text.strip()
    parts = re.findall(r"[:;]", plain)
    full = plain + ":00" * (2 - len(parts)) + (";00" if rate.drop else ":00") if len(parts) in {1, 2} else plain
    try:
        return Timecode.parse(full, rate).seconds
    except TimecodeError:
        raise RefusedError(f"{plain!r} is no time of day. Write it like 13:40 or 13:40:00.") from None


def end_period(session: Session, settings: Settings, source_id: int, *, version: int, period_id: int) -> Source:
    """Take back a clock that was chosen for a stretch of the day.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    """
    source = days.get_source_for_change(session, source_id, version)
    row = days.get_clock_period(session, period_id)
    if row.source_id != source_id:
        raise NotFoundError("That stretch is of another source. Load the page again.")
    session.delete(row)
    return changed(session, settings, source, f"no longer trusted by its {row.clock} for a stretch of the day")
