"""What is known of a day in the database, and what persons say of it: overrides, clocks, asides, accepted oddities."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import Any

from sqlmodel import Session

from vesk.actions.known import DayKnown, know_day
from vesk.actions.known_recording import ASIDE, CLOCK, FIELDS, TIMECODE, Item
from vesk.core.clocks.choice import CHOICES, Period, Said
from vesk.core.errors import NotFoundError, RefusedError, StaleError, TimecodeError
from vesk.core.intake.naming import DEFAULT_PATTERNS, compiled
from vesk.core.intake.reports import Report, entries_of
from vesk.core.timecode import FrameRate, Timecode
from vesk.media.facts import Facts
from vesk.settings import Settings
from vesk.store import changes, days, journal, overrides, recordings, reports
from vesk.store.tables import AcceptedRow, ClockPeriod, Day, Recording, Source


def known_of_day(session: Session, day: Day) -> DayKnown:
    """Gather a day's recordings and conclude what is known of them; keys are recording numbers as text."""
    day_id = day.id or 0
    sources = {source.id: source for source in days.sources(session, day_id)}
    put_right = overrides.standing_of_day(session, day_id)
    items, unreadable = [], []
    for row in recordings.of_day(session, day_id):
        if row.state != "ready":
            unreadable.append((row.path, row.problem))
            continue
        own = put_right.get(row.id or 0, {})
        source = sources.get(row.source_id)
        tag = source.tag if source else "—"
        items.append(
            Item(
                str(row.id), row.path, tag, Facts.from_json(row.facts), row.heard,
                row.content, row.size, {name: one.value for name, one in own.items()},
                {name: one.made_by for name, one in own.items()}, _members(row.members, tag), row.joined,
            )
        )  # fmt: skip
    return know_day(
        items, days.rate_of(day), said=_said(session, day_id), unreadable=unreadable,
        patterns=patterns_of(day), reports=reports_of_day(session, day_id),
    )  # fmt: skip


def patterns_of(day: Day) -> tuple[str, ...]:
    """Return the patterns a day's file names are read by."""
    return tuple(day.patterns) or DEFAULT_PATTERNS


def reports_of_day(session: Session, day_id: int) -> list[Report]:
    """Return a day's reports with what their lines say."""
    tags = {source.id: source.tag for source in days.sources(session, day_id)}
    return [
        Report(row.name, row.kind, tags.get(row.source_id, ""), entries_of(reports.table_of(row), row.mapping))
        for row in reports.of_day(session, day_id)
    ]


def _said(session: Session, day_id: int) -> dict[str, Said]:
    """Return what persons said of sources' clocks, by tag."""
    periods = days.clock_periods(session, day_id)
    return {
        source.tag: Said(
            source.clock,
            tuple(Period(one.since, one.before, one.clock) for one in periods.get(source.id or 0, ())),
            FrameRate.parse(source.rate) if source.rate else None,
        )
        for source in days.sources(session, day_id)
    }


def _members(members: Sequence[Mapping[str, Any]], tag: str) -> tuple[Item, ...]:
    return tuple(
        Item(
            str(one["id"]), one["path"], tag, Facts.from_json(one["facts"]), {}, one["content"], one["size"],
            members=_members(one["members"], tag), joined=one["joined"],
        )
        for one in members
    )  # fmt: skip


def choose_clock(session: Session, settings: Settings, source_id: int, *, version: int, clock: str) -> Source:
    """Say which clock a source is trusted by; an empty one leaves it to Vesk.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    RefusedError
        If there is no such clock.
    """
    if clock and clock not in CHOICES:
        raise RefusedError(f"A source is trusted by its {', '.join(CHOICES[:-1])}, or by {CHOICES[-1]}.")
    source = days.get_source_for_change(session, source_id, version)
    source.clock = clock
    changes.count(session, source)
    what = f"source {source.tag}: trusted by its {clock}" if clock else f"source {source.tag}: Vesk chooses its clock"
    journal.note(session, day_id=source.day_id, by=settings.person, what=what)
    return source


def choose_period(
    session: Session, settings: Settings, source_id: int, *, version: int, since: str, before: str, clock: str
) -> Source:
    """Say by which clock a source is trusted from one time of the day to another; the newest said counts.

    Raises
    ------
    StaleError
        If somebody changed the source since `version`.
    RefusedError
        If a time cannot be, or there is no such clock.
    """
    if clock not in CHOICES:
        raise RefusedError(f"Choose the clock for that stretch: {', '.join(CHOICES)}.")
    source = days.get_source_for_change(session, source_id, version)
    rate = days.rate_of(days.get_day(session, source.day_id))
    low, high = (_moment(text, rate) for text in (since, before))
    if low == high:
        raise RefusedError("A stretch of the day ends later than it begins.")
    session.add(ClockPeriod(source_id=source_id, since=low, before=high, clock=clock, made_by=settings.person))
    changes.count(session, source)
    journal.note(
        session, day_id=source.day_id, by=settings.person,
        what=f"source {source.tag}: trusted by its {clock} from {since.strip()} to {before.strip()}",
    )  # fmt: skip
    session.flush()
    return source


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
    changes.count(session, source)
    journal.note(
        session, day_id=source.day_id, by=settings.person,
        what=f"source {source.tag}: no longer trusted by its {row.clock} for a stretch of the day",
    )  # fmt: skip
    session.flush()
    return source


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
    journal.note(session, day_id=day.id or 0, by=settings.person, what=f"file names are read by: {said}")


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
    rows = recordings.for_change(session, day.id or 0, versions)
    for row in rows:
        changes.count(session, row)
        if value is None:
            overrides.withdraw(session, row.id or 0, field)
            continue
        _check(field, value, row, days.rate_of(day))
        overrides.put(session, row.id or 0, field, value.strip(), by=settings.person)
    names = ", ".join(row.name for row in rows[:4]) + (f" and {len(rows) - 4} more" if len(rows) > 4 else "")
    said = "as read again" if value is None else f"put right to {value.strip()!r}"
    if field == ASIDE and value is not None:
        said = f"set aside: {value.strip()}" if value.strip() else "brought back"
    journal.note(session, day_id=day.id or 0, by=settings.person, what=f"{field} of {names}: {said}")
    session.flush()
    return len(rows)


def _check(field: str, value: str, row: Recording, day: FrameRate) -> None:
    if field == CLOCK and value not in CHOICES:
        raise RefusedError(f"A clock is one of {', '.join(CHOICES)}.")
    if len(value) > 200:
        raise RefusedError("That is too long: 200 characters at most.")
    if field == TIMECODE:
        rate = Facts.from_json(row.facts).clock(day)
        try:
            Timecode.parse(value.strip(), rate)
        except TimecodeError as error:
            raise RefusedError(f"{row.name}: {error}. Write it like 09:12:06:00.") from None


def accept(session: Session, settings: Settings, day: Day, key: str, note: str) -> None:
    """Say that an oddity is meant so.

    Raises
    ------
    StaleError
        If somebody said so already.
    """
    if not key or len(key) > 500 or len(note) > 300:
        raise RefusedError("A note has 300 characters at most.")
    changes.hold(session, day.id or 0)
    known = overrides.accepted(session, day.id or 0).get(key)
    if known is not None:
        raise StaleError(f"{known.made_by} said already that it is meant so{f': {known.note}' if known.note else ''}.")
    session.add(AcceptedRow(day_id=day.id or 0, oddity=key, note=note.strip(), made_by=settings.person))
    journal.note(session, day_id=day.id or 0, by=settings.person, what=f"meant so: {key}. {note}".strip())


def take_up(session: Session, settings: Settings, day: Day, key: str) -> None:
    """Take an accepted oddity up again.

    Raises
    ------
    StaleError
        If somebody did so already.
    """
    changes.hold(session, day.id or 0)
    row = overrides.accepted(session, day.id or 0).get(key)
    if row is None:
        raise StaleError("It is taken up again already.")
    session.delete(row)
    journal.note(session, day_id=day.id or 0, by=settings.person, what=f"taken up again: {key}")
