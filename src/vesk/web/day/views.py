"""The day: its chart and its take ledger, and what is done to several takes together."""

from __future__ import annotations

from flask import Blueprint, request
from flask.typing import ResponseReturnValue

from vesk.actions import correct
from vesk.actions.placing import place_recordings
from vesk.core.errors import NotFoundError, RefusedError, VeskError
from vesk.store import changes, days, pairings, recordings
from vesk.web.day import ledger
from vesk.web.day.chart import chart
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("day", __name__, url_prefix="/days/<int:day_id>", template_folder="templates")


def _show(day_id: int, *, status: int = 200, problems: list[str] | None = None, done: str = "") -> ResponseReturnValue:
    frame = day_frame(day_id)
    chosen = request.values.get("show", "all")
    chosen = chosen if chosen in ledger.FILTERS else "all"
    listed = ledger.rows(session(), frame.day)
    partners: dict[int, tuple[int, str]] = {}
    for row in listed:
        if row.now is not None and row.now.pairing.id is not None:
            for member in (row.now.pairing.picture_id, row.now.pairing.sound_id):
                partners.setdefault(member, (row.now.pairing.id, row.state))
    rows = recordings.of_day(session(), day_id)
    placed = place_recordings(rows, pairings.of_day(session(), day_id), frame.clock)
    drawn = chart(
        days.sources(session(), day_id),
        rows,
        frame.clock,
        partners,
        placed,
        recordings.members_of_day(session(), day_id),
    )
    return render(
        "day/page.html",
        "day/_day.html",
        status=status,
        frame=frame,
        headline=ledger.headline(listed),
        rows=[row for row in listed if row.shown_by(chosen)],
        counts={name: sum(row.shown_by(name) for row in listed) for name in ledger.FILTERS},
        filters=ledger.FILTERS,
        chosen=chosen,
        chart=drawn,
        problems=problems or [],
        done=done,
    )


@bp.get("/")
def show(day_id: int) -> ResponseReturnValue:
    """Show the day."""
    return _show(day_id)


@bp.post("/together")
def together(day_id: int) -> ResponseReturnValue:
    """Take the proposal for, or check, every selected pairing; what cannot be done is said, the rest is done."""
    wanted = form.text("do")
    todo = {"proposal": correct.take_proposal, "check": correct.check}.get(wanted)
    if todo is None:
        raise RefusedError("Choose what to do with the selected takes.")
    days.get_day(session(), day_id)
    chosen = form.versions("pairing")
    changes.hold(session(), day_id)
    problems, count = [], 0
    for number, version in chosen.items():
        try:
            if pairings.get(session(), number).day_id != day_id:
                raise NotFoundError(f"Pairing number {number} is not of this day.")
            with session().begin_nested():
                todo(session(), settings(), number, version=version)
            count += 1
        except VeskError as error:
            problems.append(str(error))
    session().commit()
    words = {"proposal": "corrected as proposed", "check": "marked as checked"}[wanted]
    done = f"{count} {words}." if chosen else "Nothing is selected: tick the takes first."
    return _show(day_id, problems=sorted(set(problems)), done=done)
