"""The day: its chart and its take ledger, and what is done to several takes together."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, render_template, request, url_for
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from vesk.actions import correct
from vesk.actions.overview import Overview
from vesk.core.errors import NotFoundError, RefusedError, VeskError
from vesk.store import changes, days, pairings
from vesk.web.day import ledger
from vesk.web.day.chart import chart
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame
from vesk.web.shared.scrolled import scrolled

bp = Blueprint("day", __name__, url_prefix="/days/<int:day_id>", template_folder="templates")


@dataclass(frozen=True, slots=True)
class _Drawn:
    """All that a day's page shows, but for what was just done."""

    rows: list[ledger.Row]
    headline: str
    counts: dict[str, int]
    chart: Markup | None


def _drawn(view: Overview) -> _Drawn:
    listed = ledger.rows(view)
    partners: dict[int, tuple[int, str]] = {}
    for row in listed:
        if row.now is not None:
            for member in (row.now.pairing.picture_id, row.now.pairing.sound_id):
                partners.setdefault(member, (row.now.pairing.id, row.state))
    found = chart(view.sources, view.recordings, days.rate_of(view.day), partners, view.placed, view.members)
    return _Drawn(
        listed,
        ledger.headline(listed),
        {name: sum(row.shown_by(name) for row in listed) for name in ledger.FILTERS},
        Markup(render_template("day/_chart.html", chart=found)) if found else None,  # noqa: S704 - rendered, escaped
    )


def _show(day_id: int, *, status: int = 200, problems: list[str] | None = None, done: str = "") -> ResponseReturnValue:
    frame = day_frame(day_id)
    view = Overview(session(), frame.day)
    chosen = request.values.get("show", "all")
    chosen = chosen if chosen in ledger.FILTERS else "all"
    drawn = view.of("day", lambda: _drawn(view))
    rows = [row for row in drawn.rows if row.shown_by(chosen)]
    listed = scrolled(rows, url_for("day.show", day_id=day_id, show=chosen))
    if listed.alone:
        return render_template("day/_rows.html", rows=listed.rows)
    return render(
        "day/page.html", "day/_day.html", status=status, frame=frame, headline=drawn.headline, listed=listed,
        counts=drawn.counts, filters=ledger.FILTERS, chosen=chosen, chart=drawn.chart, problems=problems or [],
        done=done,
    )  # fmt: skip


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
