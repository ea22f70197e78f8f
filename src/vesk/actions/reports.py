"""Sound and camera reports: taken up as tables, their columns named, laid beside the day's recordings."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from sqlmodel import Session

from vesk.core.errors import RefusedError, ReportError, StaleError
from vesk.core.intake.reports import FIELDS, Report, entries_of, guess_mapping, read_table
from vesk.core.kinds import ReportKind
from vesk.media.paperwork import read_text
from vesk.settings import Settings
from vesk.store import changes, days, journal, reports
from vesk.store.tables import Day, ReportRow


def from_file(path: Path, kind: ReportKind) -> Report:
    """Read a report for a command: columns by their names, for all sources of its kind.

    Raises
    ------
    MediaError
        If the file cannot be read.
    ReportError
        If it is no report.
    """
    try:
        table = read_table(read_text(path))
    except ReportError as error:
        raise ReportError(f"{path}: {error}") from None
    return Report(path.name, kind, "", entries_of(table, guess_mapping(table.columns)))


def take_up(
    session: Session, settings: Settings, day: Day, *, name: str, text: str, kind: ReportKind | None
) -> ReportRow:
    """Take a report up; columns that a person named once in a report like it are known.

    Without a `kind`, whose report it is is taken from such a one, too.

    Raises
    ------
    ReportError
        If it is no report.
    StaleError
        If a report of that name is there: its file is taken up again by removing the first.
    """
    changes.hold(session, day.id)
    if any(row.name == name for row in reports.of_day(session, day.id)):
        raise StaleError(f"{name} is taken up already. Remove it first if it changed.")
    try:
        table = read_table(text)
    except ReportError as error:
        raise ReportError(f"{name}: {error}") from None
    known = reports.last_mapping(session, list(table.columns))
    mapping, of_kind = known or (guess_mapping(table.columns), ReportKind.SOUND)
    row = ReportRow(
        day_id=day.id, name=name, kind=kind or of_kind, columns=list(table.columns),
        lines=[list(line) for line in table.lines], mapping=mapping, made_by=settings.person,
    )  # fmt: skip
    session.add(row)
    session.flush()
    journal.note(
        session,
        day_id=day.id,
        by=settings.person,
        what=f"took up {row.kind} report {name}: {len(row.lines)} lines",
    )
    return row


def name_columns(
    session: Session,
    settings: Settings,
    report_id: int,
    *,
    version: int,
    mapping: Mapping[str, str],
    kind: ReportKind,
    tag: str,
) -> ReportRow:
    """Say what a report's columns mean, what kind it is, and which source it is about (no tag: all of its kind).

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    RefusedError
        If a field or a column does not exist, a column would mean two things, or the source is of another kind.
    """
    row = reports.get_for_change(session, report_id, version)
    kept = {name: column for name, column in mapping.items() if column}
    if set(kept) - set(FIELDS) or set(kept.values()) - set(row.columns):
        raise RefusedError("That column is not in the report. Load the page again.")
    twice = [column for column in set(kept.values()) if list(kept.values()).count(column) > 1]
    if twice:
        raise RefusedError(f"The column {twice[0]!r} can mean one thing only.")
    if not {"file", "scene"} & set(kept):
        raise RefusedError(
            "Name the column that holds the file, or the one that holds the scene: else no line can be matched."
        )
    source = next((one for one in days.sources(session, row.day_id) if one.tag == tag), None)
    if tag and source is None:
        raise RefusedError(f"There is no source {tag}.")
    if source is not None and source.kind != kind.lists:
        raise RefusedError(
            f"{tag} is a {'recorder' if source.kind == 'sound' else 'camera'}: that is no {kind} report of it."
        )
    row.mapping, row.kind, row.source_id = kept, kind, source.id if source else None
    changes.count(session, row)
    said = ", ".join(f"{name} is {column!r}" for name, column in kept.items())
    journal.note(session, day_id=row.day_id, by=settings.person, what=f"{kind} report {row.name}: {said}")
    session.flush()
    return row


def remove(session: Session, settings: Settings, report_id: int, *, version: int) -> int:
    """Leave a report out again; returns its day.

    Raises
    ------
    StaleError
        If somebody changed it since `version`.
    """
    row = reports.get_for_change(session, report_id, version)
    session.delete(row)
    journal.note(session, day_id=row.day_id, by=settings.person, what=f"left report {row.name} out again")
    session.flush()
    return row.day_id
