"""The journal: everything done, by whom, when; by person, take and device; undone where it can be; as CSV."""

from __future__ import annotations

import csv
import io

from flask import Blueprint, Response, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import undoing
from vesk.core.errors import NumberError
from vesk.core.figures import read_whole
from vesk.core.wording import plain_cell
from vesk.jobs.tasks import ask_solved, pair_again
from vesk.store import days, journal, pairings
from vesk.store.journal import Asked
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("journal", __name__, template_folder="templates")
_AT_ONCE = 200


def _asked() -> Asked:
    """Return what the page asks for."""
    return Asked(*(" ".join(request.args.get(name, "")[:100].split()) for name in ("by", "take", "device")))


def _show(day_id: int, *, status: int = 200, problem: str = "", done: str = "") -> ResponseReturnValue:
    asked = _asked()
    try:
        before = read_whole(request.args.get("before", "0")[:12])
    except NumberError:
        before = 0
    lines = journal.of_day(session(), day_id, asked, most=_AT_ONCE, before=before)
    given = {name: value for name in ("by", "take", "device") if (value := getattr(asked, name))}
    return render(
        "journal/page.html",
        "journal/_journal.html",
        status=status,
        frame=day_frame(day_id),
        lines=lines,
        asked=asked,
        people=journal.people(session(), day_id),
        devices=journal.tags(session(), day_id),
        undoable=journal.undoable(session(), lines),
        standing=pairings.acts_standing(session(), day_id),
        here=url_for("journal.show", day_id=day_id, **given),
        as_csv=url_for("journal.as_csv", day_id=day_id, **given),
        older=url_for("journal.show", day_id=day_id, **given, before=lines[-1].id) if len(lines) == _AT_ONCE else "",
        given=given,
        problem=problem,
        done=done,
    )


@bp.get("/days/<int:day_id>/journal")
def show(day_id: int) -> ResponseReturnValue:
    """Show the journal, all of it or what is asked for."""
    return _show(day_id)


@bp.post("/days/<int:day_id>/journal/<int:line_id>/undo")
def undo(day_id: int, line_id: int) -> ResponseReturnValue:
    """Undo what a line tells."""

    def work() -> str:
        day = days.get_day(session(), day_id)
        what, pairs = undoing.undo_line(session(), settings(), day, line_id)
        if pairs:
            pair_again(session(), day)
            ask_solved(session(), day_id)
        return f"Undone: {what}"

    status, problem, done = form.act(work)
    return _show(day_id, status=status, problem=problem, done=done)


@bp.get("/days/<int:day_id>/journal.csv")
def as_csv(day_id: int) -> ResponseReturnValue:
    """Give every line that is asked for as CSV, the oldest first."""
    days.get_day(session(), day_id)
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(("when", "who", "what"))
    for at, by, what in journal.every_line(session(), day_id, _asked()):
        writer.writerow((at.strftime("%Y-%m-%dT%H:%M:%SZ"), plain_cell(by), plain_cell(what)))
    named = {"Content-Disposition": f'attachment; filename="journal of day {day_id}.csv"'}
    return Response(text.getvalue(), mimetype="text/csv", headers=named)
