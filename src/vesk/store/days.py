"""Productions, days and sources."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError, StaleError
from vesk.core.kinds import Kind
from vesk.core.timecode import FrameRate
from vesk.store import changes
from vesk.store.tables import ClockPeriod, Day, Production, Source


def all_days(session: Session) -> list[tuple[Production, Day]]:
    """Return every day with its production, the newest last."""
    rows = session.exec(
        select(Production, Day).join(Day, col(Day.production_id) == Production.id).order_by(col(Day.id))
    )
    return [(production, day) for production, day in rows]


def watched(session: Session) -> list[Day]:
    """Return the days whose folders are watched."""
    return list(session.exec(select(Day).where(col(Day.watched))))


def get_day(session: Session, day_id: int) -> Day:
    """Return a day."""
    day = session.get(Day, day_id)
    if day is None:
        raise NotFoundError(f"There is no shoot day number {day_id} here.")
    return day


def get_production(session: Session, production_id: int) -> Production:
    """Return a production."""
    production = session.get(Production, production_id)
    if production is None:
        raise NotFoundError(f"There is no production number {production_id} here.")
    return production


def get_for_change(session: Session, day_id: int, version: int) -> Day:
    """Return a day held for change; refuse if somebody changed it since `version` was shown."""
    changes.hold(session, day_id)
    day = get_day(session, day_id)
    changes.compare(day, version, f"shoot day {day.number}")
    return day


def production_named(session: Session, name: str) -> Production:
    """Return the production of that name, made if it is new."""
    found = session.exec(select(Production).where(Production.name == name)).first()
    if found is None:
        found = Production(name=name)
        session.add(found)
        session.flush()
    return found


def rate_of(day: Day) -> FrameRate:
    """Return the day's label clock."""
    return FrameRate(day.fps, day.drop)


def sources(session: Session, day_id: int, *, gone: bool = False) -> list[Source]:
    """Return a day's sources: pictures first, in the order a person gave them, else by tag; of those `gone` too."""
    order = (col(Source.kind), col(Source.position), col(Source.tag))
    query = select(Source).where(Source.day_id == day_id).order_by(*order)
    return list(session.exec(query if gone else query.where(~col(Source.gone))))


def make_source(session: Session, day_id: int, *, tag: str, name: str, kind: Kind, folder: str) -> Source:
    """Make a source; one of that tag that was let go comes back as this one."""
    query = select(Source).where(Source.day_id == day_id, Source.tag == tag, col(Source.gone))
    row = session.exec(query).first() or Source(day_id=day_id, tag=tag, name=name, kind=kind, folder=folder)
    if row.gone:
        row.name, row.kind, row.folder, row.gone = name, kind, folder, False
        row.clock, row.rate, row.distance_mm, row.delay_us = None, "", 0, 0
        changes.count(session, row)
    session.add(row)
    session.flush()
    return row


def clock_periods(session: Session, day_id: int) -> dict[int, list[ClockPeriod]]:
    """Return the stretches in which sources are trusted by another clock, by source, the newest first."""
    query = select(ClockPeriod).join(Source, col(Source.id) == ClockPeriod.source_id)
    query = query.where(Source.day_id == day_id, ~col(Source.gone))
    found: dict[int, list[ClockPeriod]] = {}
    for row in session.exec(query.order_by(col(ClockPeriod.id).desc())):
        found.setdefault(row.source_id, []).append(row)
    return found


def get_clock_period(session: Session, period_id: int) -> ClockPeriod:
    """Return one such stretch."""
    row = session.get(ClockPeriod, period_id)
    if row is None:
        raise NotFoundError("That stretch of the day is not here any more. Load the page again.")
    return row


def get_source(session: Session, source_id: int) -> Source:
    """Return a source."""
    source = session.get(Source, source_id)
    if source is None:
        raise NotFoundError(f"There is no source number {source_id} here.")
    return source


def get_source_for_change(session: Session, source_id: int, version: int) -> Source:
    """Return a source held for change; refuse if somebody changed it, or let it go, since `version` was shown."""
    source = get_source(session, source_id)
    changes.hold(session, source.day_id)
    if source.gone:
        raise StaleError(f"Source {source.tag} is no more: its recordings were moved to another meanwhile.")
    changes.compare(source, version, f"source {source.tag}")
    return source
