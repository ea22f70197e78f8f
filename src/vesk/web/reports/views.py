"""The page of sound and camera reports."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from flask import Blueprint, request
from flask.typing import ResponseReturnValue

from vesk.actions import reports as action
from vesk.actions.overview import Overview
from vesk.core.errors import BusyError, MediaError, RefusedError
from vesk.core.intake.filed import Filed
from vesk.core.intake.reports import FIELDS, Compared, Report, compare, entries_of
from vesk.core.kinds import ReportKind
from vesk.core.timecode import FrameRate
from vesk.jobs.tasks import pair_again
from vesk.media import paperwork, scan
from vesk.media.answering import within
from vesk.store import days, reports
from vesk.store.tables import Day, ReportRow
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("reports", __name__, template_folder="templates")
_SHOWN = 200


@dataclass(frozen=True, slots=True)
class Shown:
    """A report on the page: its lines with the recording each is about, and what does not fit."""

    row: ReportRow
    tag: str
    lines: list[tuple[tuple[str, ...], str]]
    compared: Compared
    entries: int


def _in_folder(day: Day, known: set[str]) -> list[str]:
    """Return the tables beside the day's media that are not taken up."""
    try:
        return [name for name in _tables(day) if name not in known]
    except (MediaError, BusyError):
        return []


def _tables(day: Day) -> dict[str, Path]:
    """Return the tables in a day's folder, by their paths below it."""
    folder, roots = settings().here(day.folder), settings().media_roots

    def listed() -> dict[str, Path]:
        root = scan.allowed(folder, roots)
        return {scan.shown(path, root): path for path in paperwork.tables(root)}

    return within(folder, listed)


def _shown(
    row: ReportRow, tags: dict[int | None, str], day: FrameRate, known: dict[str, str], filed: list[Filed]
) -> Shown:
    table = reports.table_of(row)
    entries = entries_of(table, row.mapping)
    compared = compare(Report(row.name, row.kind, tags.get(row.source_id, ""), entries), filed, day)
    about: dict[int, str] = {entry.number: known[key] for key, entry in compared.matched.items()}
    lines = [(line, about.get(number, "")) for number, line in enumerate(table.lines[:_SHOWN], start=1)]
    return Shown(row, tags.get(row.source_id, ""), lines, compared, len(entries))


def _show(day_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    frame = day_frame(day_id)
    opened = session()
    sources = days.sources(opened, day_id)
    concluded = Overview(opened, frame.day).known.recordings
    filed = [one.filed for one in concluded.values() if not one.aside.startswith("the same file")]
    names = {key: one.filed.name for key, one in concluded.items()}
    tags: dict[int | None, str] = {source.id: source.tag for source in sources}
    rows = reports.of_day(opened, day_id)
    return render(
        "reports/page.html", "reports/_reports.html", status=status, frame=frame, sources=sources,
        shown=[_shown(row, tags, frame.clock, names, filed) for row in rows], names=names, fields=list(FIELDS),
        folder=_in_folder(frame.day, {row.name for row in rows}), kinds=list(ReportKind), problem=problem, said=said,
    )  # fmt: skip


def _do(day_id: int, work: Callable[[], str]) -> ResponseReturnValue:
    def both() -> str:
        said = work()
        pair_again(session(), days.get_day(session(), day_id))
        return said

    status, problem, said = form.act(both)
    return _show(day_id, status=status, problem=problem, said=said)


@bp.get("/days/<int:day_id>/reports")
def show(day_id: int) -> ResponseReturnValue:
    """Show the day's reports."""
    return _show(day_id)


@bp.post("/days/<int:day_id>/reports")
def take_up(day_id: int) -> ResponseReturnValue:
    """Take a report up: one that was sent, or one that lies in the day's folder."""
    day = days.get_day(session(), day_id)

    def work() -> str:
        kind = form.word("kind", ReportKind) if form.text("kind") else None
        beside = form.text("beside")
        if beside:
            found = _tables(day)
            if beside not in found:
                raise RefusedError(f"{beside} is not in the day's folder any more.")
            name, text = beside, within(beside, lambda: paperwork.read_text(found[beside]))
        else:
            sent = request.files.get("report")
            if sent is None or not sent.filename:
                raise RefusedError("Choose a report first: a table as CSV.")
            name, text = Path(sent.filename).name[:200], paperwork.decode(sent.read())
        row = action.take_up(session(), settings(), day, name=name, text=text, kind=kind)
        return f"{row.name} is taken up: look whether its columns are named right."

    return _do(day_id, work)


@bp.post("/reports/<int:report_id>")
def change(report_id: int) -> ResponseReturnValue:
    """Name its columns, or leave it out again."""
    day_id = reports.get(session(), report_id).day_id

    def work() -> str:
        version = form.version()
        if form.text("do") == "remove":
            action.remove(session(), settings(), report_id, version=version)
            return "It is left out again; recordings keep what their files say."
        columns = reports.get(session(), report_id).columns
        meant = [(form.text(f"column-{at}"), column) for at, column in enumerate(columns)]
        picked = [name for name, _ in meant if name]
        if len(picked) != len(set(picked)):
            raise RefusedError("Two columns are named alike: each fact comes from one column.")
        row = action.name_columns(
            session(), settings(), report_id, version=version, mapping={name: column for name, column in meant if name},
            kind=form.word("kind", ReportKind), tag=form.text("tag"),
        )  # fmt: skip
        return f"{row.name}: its columns are saved, and known for reports like it."

    return _do(day_id, work)
