"""What others made of the day's recordings: timelines, edit lists and reports read back, shown before they count."""

from __future__ import annotations

from flask import Blueprint, request
from flask.typing import ResponseReturnValue

from vesk.actions import elsewhere
from vesk.actions.elsewhere import Line
from vesk.actions.overview import Overview
from vesk.core.errors import RefusedError, VeskError
from vesk.jobs.tasks import ask_measure
from vesk.store import days
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("elsewhere", __name__, template_folder="templates")
HERE = "/days/<int:day_id>/elsewhere"
_SHOWN = 400


def _show(
    day_id: int,
    *,
    status: int = 200,
    problems: list[str] | None = None,
    said: str = "",
    lines: list[Line] | None = None,
    strangers: list[str] | None = None,
    name: str = "",
) -> ResponseReturnValue:
    found = lines or []
    return render(
        "elsewhere/page.html", "elsewhere/_elsewhere.html", status=status, frame=day_frame(day_id),
        lines=sorted(found, key=lambda one: not one.news)[:_SHOWN], count=len(found), read=lines is not None,
        news=sum(one.news for one in found), strangers=strangers or [], name=name, problems=problems or [], said=said,
    )  # fmt: skip


@bp.get(HERE)
def show(day_id: int) -> ResponseReturnValue:
    """Show what can be read."""
    return _show(day_id)


@bp.post(HERE)
def read(day_id: int) -> ResponseReturnValue:
    """Read a file, and show what it says beside what is known here; nothing is changed."""
    view = Overview(session(), day_frame(day_id).day)
    sent = request.files.get("made")
    name = (sent.filename or "") if sent is not None else ""
    try:
        lines, strangers = elsewhere.read(view, name[: form.LONGEST], sent.read() if sent is not None else b"")
    except VeskError as error:
        return _show(day_id, status=form.status_of(error), problems=[str(error)])
    return _show(day_id, lines=lines, strangers=strangers, name=name)


@bp.post(f"{HERE}/take")
def take(day_id: int) -> ResponseReturnValue:
    """Take what was ticked: they belong together, or lie as they did there."""
    problems: list[str] = []

    def work() -> str:
        keys = request.form.getlist("pair")
        if not keys:
            raise RefusedError("Nothing is selected: tick the pairs first.")
        laid = form.text("do") == "laid"
        day = days.get_day(session(), day_id)
        made, wrong = elsewhere.take(session(), settings(), day, keys, laid=laid)
        problems.extend(wrong)
        for pairing_id in made:
            ask_measure(session(), pairing_id)
        how = "laid as there" if laid else "said to belong together"
        return f"{len(made)} {'pair' if len(made) == 1 else 'pairs'} {how}; they are measured now."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problems=[*problems, *([problem] if problem else [])], said=said)
