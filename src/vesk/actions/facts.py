"""Facts of recordings that a person puts right, and that count again as read."""

from __future__ import annotations

from collections.abc import Mapping

from sqlmodel import Session

from vesk.core.clocks.choice import CHOICES
from vesk.core.day.recording import ASIDE, CLOCK, COUNTS_AT, FIELDS, TIMECODE
from vesk.core.errors import MediaError, RefusedError, TimecodeError
from vesk.core.facts import Facts
from vesk.core.timecode import FrameRate, Timecode
from vesk.settings import Settings
from vesk.store import changes, days, journal, overrides, recordings
from vesk.store.tables import Day, Recording


def facts_of(row: Recording) -> Facts:
    """Return a recording's facts as read.

    Raises
    ------
    MediaError
        If it was never read.
    """
    if row.facts is None:
        raise MediaError(row.path, "it could not be read at intake", "Copy it anew and take the folder in again.")
    return row.facts


def put_right(
    session: Session, settings: Settings, day: Day, versions: Mapping[int, int], *, field: str, value: str | None
) -> int:
    """Put a fact of recordings right, or, with None, let the read value count again; returns how many.

    `versions` are those of each recording as it was shown.

    Raises
    ------
    StaleError
        If one of them was changed since.
    RefusedError
        If the field cannot be put right, or the value cannot be.
    """
    if field not in FIELDS:
        raise RefusedError(f"{field!r} cannot be put right; these can: {', '.join(FIELDS)}.")
    rows = recordings.for_change(session, day.id, versions)
    for row in rows:
        changes.count(session, row)
        if value is None:
            overrides.withdraw(session, row.id, field)
            continue
        _check(field, value, row, days.rate_of(day))
        overrides.put(session, row.id, field, value.strip(), by=settings.person)
    names = ", ".join(row.name for row in rows[:4]) + (f" and {len(rows) - 4} more" if len(rows) > 4 else "")
    said = "as read again" if value is None else f"put right to {value.strip()!r}"
    if field == ASIDE and value is not None:
        said = f"set aside: {value.strip()}" if value.strip() else "brought back"
    journal.note(session, day_id=day.id, by=settings.person, what=f"{field} of {names}: {said}")
    session.flush()
    return len(rows)


def _check(field: str, value: str, row: Recording, day: FrameRate) -> None:
    if field == CLOCK and value not in CHOICES:
        raise RefusedError(f"A clock is one of {', '.join(CHOICES)}.")
    if len(value) > 200:
        raise RefusedError("That is too long: 200 characters at most.")
    if field == COUNTS_AT and value.strip():
        FrameRate.parse(value.strip())  # refused with its own sentence
    if field == TIMECODE:
        rate = facts_of(row).clock(day)
        try:
            Timecode.parse(value.strip(), rate)
        except TimecodeError as error:
            raise RefusedError(f"{row.name}: {error}. Write it like 09:12:06:00.") from None
