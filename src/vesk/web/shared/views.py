"""Routes that belong to no one page: who is at it, how Vesk is, and the progress of a day."""

from __future__ import annotations

import re
import shutil
from dataclasses import asdict
from typing import Any
from urllib.parse import quote

from flask import Blueprint, jsonify, redirect, render_template, request
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import DBAPIError

from vesk.core.errors import RefusedError
from vesk.core.figures import LARGEST_ID
from vesk.settings import LONGEST_NAME, VESK
from vesk.store import days, health, journal, machines, presence, progress
from vesk.web.shared import WHO, form, session, settings
from vesk.web.shared.progress_view import progress_line

bp = Blueprint("common", __name__)
LEAST_LEFT = 1 << 30  # bytes


@bp.post("/who")
def who() -> ResponseReturnValue:
    """Keep in this browser who is at it; everything done from here on is signed so."""
    if settings().accounts:
        raise RefusedError("Here everybody signs by their account.")
    name = " ".join(form.text("name").split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise RefusedError(f"Say who you are in at most {LONGEST_NAME} letters.")
    if name.casefold() == VESK.casefold():
        raise RefusedError("Vesk signs what it does by itself. Say who you are.")
    back = form.text("back")
    response = redirect(back if re.fullmatch(r"/(?!/)[\w/?=&.:%+-]*", back, re.ASCII) else "/", 303)
    response.set_cookie(WHO, quote(name), max_age=365 * 86_400, httponly=True, samesite="Strict")
    return response


@bp.get("/healthz")
def healthz() -> ResponseReturnValue:
    """Say as JSON whether the database answers, how the queue is doing and how much of the disk is left.

    503 where the database does not answer, nobody works, or less is left than a take's worth of files.
    """
    told: dict[str, Any] = {"disk_left_bytes": shutil.disk_usage(settings().var).free, "database": "answers"}
    try:
        own, room = health.queue(session()), health.room(session(), settings().var)
        hosts = machines.at_work(session())
    except DBAPIError:
        return jsonify({**told, "database": "does not answer"}), 503
    told |= {"disk_full_in_hours": room.full_in_h, "cache_bytes": room.cache_bytes, "hosts": hosts}
    well = own.workers > 0 and room.free_bytes > LEAST_LEFT
    return jsonify({**told, "queue": asdict(own)}), 200 if well else 503


_TAB = re.compile(r"[a-z0-9-]{8,40}", re.ASCII)


@bp.get("/days/<int:day_id>/progress")
def show_progress(day_id: int) -> ResponseReturnValue:
    """Show the progress line and who else is here; a page that says which one it is, is here itself from now on."""
    days.get_day(session(), day_id)  # one that is not there has no progress
    tab = request.args.get("tab", "")
    also: list[tuple[presence.Presence, str]] = []
    if _TAB.fullmatch(tab):
        about = request.args.get("about", "")
        presence.say(
            session(), tab=tab, day_id=day_id, person=settings().person, page=request.args.get("page", "")[:20],
            recording_id=int(about) if about.isdecimal() and int(about) <= LARGEST_ID else None,
        )  # fmt: skip
        session().commit()
        also = presence.others(session(), day_id, tab)
    line = progress_line(session(), day_id)
    return render_template(
        "_progress.html", progress=line, day_id=day_id, also_here=also, about=request.args.get("about")
    )


@bp.post("/days/<int:day_id>/leave")
def leave(day_id: int) -> ResponseReturnValue:
    """Take a page that is left for gone."""
    del day_id
    presence.leave(session(), form.text("tab"))
    session().commit()
    return "", 204


@bp.post("/days/<int:day_id>/stop")
def stop(day_id: int) -> ResponseReturnValue:
    """Ask the day's long work to stop."""
    days.get_day(session(), day_id)
    count = progress.stop_open(session(), day_id)
    if count:
        journal.note(session(), day_id=day_id, by=settings().person, what=f"asked {count} pieces of work to stop")
    session().commit()
    return show_progress(day_id)
