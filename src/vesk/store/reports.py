"""Sound and camera reports."""

from __future__ import annotations

from sqlmodel import Session, col, select

from vesk.core.errors import NotFoundError, StaleError
from vesk.core.intake.reports import Table
from vesk.core.kinds import ReportKind
from vesk.store import changes
from vesk.store.tables import ReportRow


def of_day(session: Session, day_id: int) -> list[ReportRow]:
    """Return a day's reports, the oldest first."""
    return list(session.exec(select(ReportRow).where(ReportRow.day_id == day_id).order_by(col(ReportRow.id))))


def get(session: Session, report_id: int) -> ReportRow:
    """Return a report."""
    row = session.get(ReportRow, report_id)
    if row is None:
        raise NotFoundError(f"There is no report number {report_id} here.")
    return row


def get_for_change(session: Session, report_id: int, version: int) -> ReportRow:
    """Return a report held for change; refuse if somebody changed it, or left it out, since `version` was shown."""
    changes.hold(session, get(session, report_id).day_id)
    row = session.get(ReportRow, report_id)
    if row is None:
        raise StaleError("Somebody else left this report out meanwhile.")
    changes.compare(row, version, f"report {row.name}")
    return row


def table_of(row: ReportRow) -> Table:
    """Return a report as it was read."""
    return Table(tuple(row.columns), tuple(tuple(line) for line in row.lines))


def last_mapping(session: Session, columns: list[str]) -> tuple[dict[str, str], ReportKind] | None:
    """Return mapping and kind of the newest report whose columns are these: what a person chose once holds again."""
    query = select(ReportRow).where(ReportRow.columns == columns).order_by(col(ReportRow.id).desc()).limit(1)
    row = session.exec(query).first()
    return None if row is None else (dict(row.mapping), row.kind)
