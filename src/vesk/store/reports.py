"""Sound and camera reports."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError, StaleError
from vesk.core.intake.reports import Table
from vesk.store.tables import ReportRow


def of_day(session: Session, day_id: int) -> list[ReportRow]:
    """Return a day's reports, the oldest first."""
    return list(session.exec(select(ReportRow).where(ReportRow.day_id == day_id).order_by(col(ReportRow.id))))


def get(session: Session, report_id: int, *, version: int | None = None) -> ReportRow:
    """Return a report; for change, refuse if somebody changed it since `version` was shown."""
    row = session.get(ReportRow, report_id, with_for_update=version is not None)
    if row is None:
        raise NotFoundError(f"There is no report number {report_id} here.")
    if version is not None and row.version != version:
        raise StaleError("Somebody else changed this report meanwhile. Look at it as it is now and try again.")
    return row


def table_of(row: ReportRow) -> Table:
    """Return a report as it was read."""
    return Table(tuple(row.columns), tuple(tuple(line) for line in row.lines))


def last_mapping(session: Session, columns: list[str]) -> tuple[dict[str, str], str] | None:
    """Return mapping and kind of the newest report whose columns are these: what a person chose once holds again."""
    query = select(ReportRow).where(ReportRow.columns == columns).order_by(col(ReportRow.id).desc()).limit(1)
    row = session.exec(query).first()
    return None if row is None else (dict(row.mapping), row.kind)
