"""Routes that belong to no one page: the front door and the progress of a day."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, url_for
from flask.typing import ResponseReturnValue

from vesk.store import days, journal, progress
from vesk.web.shared import session, settings
from vesk.web.shared.progress_view import progress_line

bp = Blueprint("common", __name__)


@bp.get("/")
def front() -> ResponseReturnValue:
    """Go to the newest day, or to naming the first one."""
    known = days.all_days(session())
    if not known:
        return redirect(url_for("intake.new_day"))
    return redirect(url_for("day.show", day_id=known[-1][1].id))


@bp.get("/days/<int:day_id>/progress")
def show_progress(day_id: int) -> ResponseReturnValue:
    """Show the progress line."""
    line = progress_line(session(), day_id)
    return render_template("_progress.html", progress=line, day_id=day_id)


@bp.post("/days/<int:day_id>/stop")
def stop(day_id: int) -> ResponseReturnValue:
    """Ask the day's long work to stop."""
    count = progress.stop_open(session(), day_id)
    if count:
        journal.note(session(), day_id=day_id, by=settings().person, what=f"asked {count} pieces of work to stop")
    session().commit()
    return show_progress(day_id)
