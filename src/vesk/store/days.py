"""Productions, days and sources."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError, StaleError
from vesk.core.timecode import FrameRate
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


def hold(session: Session, day_id: int) -> None:
    """Wait until nobody else pairs or joins this day's recordings; held until the transaction ends."""
    session.connection().exec_driver_sql("SELECT pg_advisory_xact_lock(6, %s)", (day_id,))


def get_production(session: Session, production_id: int) -> Production:
    """Return a production."""
    production = session.get(Production, production_id)
    if production is None:
        raise NotFoundError(f"There is no production number {production_id} here.")
    return production


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


def sources(session: Session, day_id: int) -> list[Source]:
    """Return a day's sources: pictures first, in the order a person gave them, else by tag."""
    order = (Source.kind, Source.position, Source.tag)
    return list(session.exec(select(Source).where(Source.day_id == day_id).order_by(*order)))


def clock_periods(session: Session, day_id: int) -> dict[int, list[ClockPeriod]]:
    """Return the stretches in which sources are trusted by another clock, by source, the newest first."""
    query = select(ClockPeriod).join(Source, col(Source.id) == ClockPeriod.source_id).where(Source.day_id == day_id)
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


def get_source(session: Session, source_id: int, *, version: int | None = None) -> Source:
    """Return a source for change; refuse if somebody changed it since `version` was shown."""
    source = session.get(Source, source_id, with_for_update=version is not None)
    if source is None:
        raise NotFoundError(f"There is no source number {source_id} here.")
    if version is not None and source.version != version:
        raise StaleError(f"Source {source.tag} was changed by somebody else meanwhile. Look at it and try again.")
    return source
