"""Routes that belong to no one page: the front door and the progress of a day."""

from __future__ import annotations

import re
from urllib.parse import quote

from flask import Blueprint, redirect, render_template, url_for
from flask.typing import ResponseReturnValue

from vesk.core.errors import RefusedError
from vesk.settings import VESK
from vesk.store import days, journal, progress
from vesk.web.shared import LONGEST_NAME, WHO, form, session, settings
from vesk.web.shared.progress_view import progress_line

bp = Blueprint("common", __name__)


@bp.get("/")
def front() -> ResponseReturnValue:
    """Go to the newest day, or to naming the first one."""
    known = days.all_days(session())
    if not known:
        return redirect(url_for("intake.new_day"))
    return redirect(url_for("day.show", day_id=known[-1][1].id))


@bp.post("/who")
def who() -> ResponseReturnValue:
    """Keep in this browser who is at it; everything done from here on is signed so."""
    name = " ".join(form.text("name").split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise RefusedError(f"Say who you are in at most {LONGEST_NAME} letters.")
    if name.casefold() == VESK.casefold():
        raise RefusedError("Vesk signs what it does by itself. Say who you are.")
    back = form.text("back")
    response = redirect(back if re.fullmatch(r"/(?!/)[\w/?=&.:%+-]*", back, re.ASCII) else "/", 303)
    response.set_cookie(WHO, quote(name), max_age=365 * 86_400, httponly=True, samesite="Strict")
    return response


@bp.get("/days/<int:day_id>/progress")
def show_progress(day_id: int) -> ResponseReturnValue:
    """Show the progress line."""
    line = progress_line(session(), day_id)
    return render_template("_progress.html", progress=line, day_id=day_id)


@bp.post("/days/<int:day_id>/stop")
def stop(day_id: int) -> ResponseReturnValue:
    """Ask the day's long work to stop."""
    days.get_day(session(), day_id)
    count = progress.stop_open(session(), day_id)
    if count:
        journal.note(session(), day_id=day_id, by=settings().person, what=f"asked {count} pieces of work to stop")
    session().commit()
    return show_progress(day_id)
