"""Turnover: what will be made, what stands in the way, what was made and how it measured afterwards."""

from __future__ import annotations

from flask import Blueprint, send_file
from flask.typing import ResponseReturnValue

from vesk.actions import package, turnover
from vesk.actions.overview import Overview
from vesk.core.errors import NotFoundError, RefusedError
from vesk.jobs.tasks import ask_to_go_on, ask_turnover
from vesk.store import days, recordings, turnovers
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("turnover", __name__, template_folder="templates")


def _show(day_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    opened = session()
    frame = day_frame(day_id)
    view = Overview(opened, frame.day)
    made = [(row, turnovers.deliveries(opened, row.id)) for row in turnovers.of_day(opened, day_id)]
    names = recordings.by_id(opened, {item.picture_id for _, held in made for item in held})
    return render(
        "turnover/page.html",
        "turnover/_turnover.html",
        status=status,
        frame=frame,
        items=view.of("items", lambda: turnover.items_of(view.day, view.statuses, view.recordings, view.sources)),
        made=made,
        places={row.id: package.place_of(row) for row, _ in made},
        names=names,
        tolerance=float(frame.day.tolerance / frame.day.fps),
        problem=problem,
        said=said,
    )


@bp.get("/days/<int:day_id>/turnover")
def show(day_id: int) -> ResponseReturnValue:
    """Show the turnover."""
    return _show(day_id)


@bp.post("/days/<int:day_id>/turnover")
def make(day_id: int) -> ResponseReturnValue:
    """Have it made."""
    day = days.get_day(session(), day_id)

    def work() -> str:
        if all(item.obstacle for item in turnover.items(session(), day)):
            raise RefusedError("No take is checked yet: nothing can be handed over. Check takes on the bench first.")
        ask_turnover(session(), settings(), day)
        return "The turnover is being made; you may leave the page."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, said=said)


@bp.post("/turnover/<int:turnover_id>/on")
def go_on(turnover_id: int) -> ResponseReturnValue:
    """Go on with one that was stopped or failed."""
    day_id = turnovers.get(session(), turnover_id).day_id

    def work() -> str:
        ask_to_go_on(session(), settings(), turnover_id)
        return "It goes on: what was made and still holds is kept."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, said=said)


@bp.get("/turnover/<int:turnover_id>/<path:name>")
def fetch(turnover_id: int, name: str) -> ResponseReturnValue:
    """Give one of its files."""
    row = turnovers.get(session(), turnover_id)
    known = {item.name for item in turnovers.deliveries(session(), turnover_id)} | {"report.csv"}
    if name not in known:
        raise NotFoundError(f"That turnover holds no file {name}.")
    path = package.place_of(row) / name
    if not path.exists():
        raise RefusedError(f"{path}: it was taken away since. Make the turnover again.")
    return send_file(path, as_attachment=True, download_name=name)
