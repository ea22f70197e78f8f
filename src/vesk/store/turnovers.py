"""Turnovers and their deliveries."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError
from vesk.store.tables import Delivery, Turnover


def of_day(session: Session, day_id: int) -> list[Turnover]:
    """Return a day's turnovers, the newest first."""
    query = select(Turnover).where(Turnover.day_id == day_id).order_by(col(Turnover.id).desc())
    return list(session.exec(query))


def done(session: Session, day_id: int) -> list[Turnover]:
    """Return the turnovers of a day that were made whole, the newest first."""
    return [row for row in of_day(session, day_id) if row.state == "done"]


def get(session: Session, turnover_id: int) -> Turnover:
    """Return a turnover."""
    turnover = session.get(Turnover, turnover_id)
    if turnover is None:
        raise NotFoundError(f"There is no turnover number {turnover_id} here.")
    return turnover


def deliveries(session: Session, turnover_id: int) -> list[Delivery]:
    """Return what a turnover holds, in the order it was made."""
    query = select(Delivery).where(Delivery.turnover_id == turnover_id).order_by(col(Delivery.id))
    return list(session.exec(query))
