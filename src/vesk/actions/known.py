"""What is known of a day in the database: its rows gathered into values."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from sqlmodel import Session

from vesk.core.clocks.choice import Period, Said
from vesk.core.day.known import DayKnown, know_day
from vesk.core.day.recording import Item
from vesk.core.intake.copies import is_copy
from vesk.core.intake.naming import DEFAULT_PATTERNS
from vesk.core.intake.oddities import Lost
from vesk.core.intake.reports import Report, entries_of
from vesk.core.kinds import Unusable
from vesk.core.timecode import FrameRate
from vesk.store import days, overrides, pairings, recordings, reports
from vesk.store.tables import Day, Recording, Source


def known_of_day(session: Session, day: Day) -> DayKnown:
    """Gather a day's recordings and conclude what is known of them; keys are recording numbers as text."""
    day_id = day.id
    sources: dict[int | None, Source] = {one.id: one for one in days.sources(session, day_id)}
    put_right = overrides.standing_of_day(session, day_id)
    listed = recordings.of_day(session, day_id)
    files = recordings.members_of_day(session, day_id) if any(row.members for row in listed) else {}
    items: list[Item] = []
    unusable = []
    for row in listed:
        if row.state != recordings.READY or row.facts is None:
            vanished = row.state == recordings.VANISHED
            kind = Unusable.VANISHED if vanished else row.unusable or Unusable.DAMAGED
            unusable.append(Lost(row.path, row.problem, kind, row.size))
            continue
        own = put_right.get(row.id, {})
        source = sources.get(row.source_id)
        tag = source.tag if source else "—"
        items.append(
            Item(
                str(row.id), row.path, tag, row.facts, row.heard,
                row.content, row.size, {name: one.value for name, one in own.items()},
                {name: one.made_by for name, one in own.items()}, _members(row, files, tag), row.merged,
            )
        )  # fmt: skip
    conclude = partial(
        know_day, items, days.rate_of(day), said=_said(session, day_id), unusable=unusable,
        patterns=patterns_of(day), reports=reports_of_day(session, day_id),
    )  # fmt: skip
    known = conclude()
    doubled = [int(key) for key, one in known.recordings.items() if is_copy(one.aside)]
    decided = pairings.decided_with(session, doubled) if doubled else set()
    return conclude(decided={str(number) for number in decided}) if decided else known


def patterns_of(day: Day) -> tuple[str, ...]:
    """Return the patterns a day's file names are read by."""
    return tuple(day.patterns) or DEFAULT_PATTERNS


def reports_of_day(session: Session, day_id: int) -> list[Report]:
    """Return a day's reports with what their lines say."""
    tags: dict[int | None, str] = {source.id: source.tag for source in days.sources(session, day_id)}
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
            tuple(Period(one.since, one.before, one.clock) for one in periods.get(source.id, ())),
            FrameRate.parse(source.rate) if source.rate else None,
        )
        for source in days.sources(session, day_id)
    }


def _members(row: Recording, files: Mapping[int, Recording], tag: str) -> tuple[Item, ...]:
    found = [files[number] for number in row.members if number in files]
    return tuple(
        Item(
            str(one.id), one.path, tag, one.facts, None, one.content, one.size,
            members=_members(one, files, tag), merged=one.merged,
        )
        for one in found if one.facts is not None
    )  # fmt: skip
