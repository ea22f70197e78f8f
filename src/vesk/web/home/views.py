"""Home: productions and their days, and what each still needs."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, redirect, render_template, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import brief
from vesk.actions.brief import Brief
from vesk.core.timecode import FrameRate
from vesk.store import days
from vesk.store.tables import Day, Production
from vesk.web.shared import session
from vesk.web.shared.progress_view import progress_line

bp = Blueprint("home", __name__, template_folder="templates")
_FEW = 3  # of so many days each is reckoned at once; of more, line by line, once the page is there


@dataclass(frozen=True, slots=True)
class DayLine:
    """A day in the list: its clock, how it stands in short, what runs."""

    production: Production
    day: Day
    clock: FrameRate
    brief: Brief
    runs: str


def _line(production: Production, day: Day, known: Brief) -> DayLine:
    runs = progress_line(session(), day.id).text if known.is_open else ""
    return DayLine(production, day, days.rate_of(day), known, runs)


def _reckoned(day_id: int) -> Brief:
    made = brief.reckon(session(), day_id)
    session().commit()
    return made


@bp.get("/")
def front() -> ResponseReturnValue:
    """Go to the first day that still asks something, else to the newest; to naming one where there is none."""
    known = [day for _, day in days.all_days(session())]
    if not known:
        return redirect(url_for("intake.new_day"))
    told = brief.of_days(session())
    for day in known:
        now = told[day.id] if told[day.id].is_fresh else _reckoned(day.id)
        if now.answers:
            return redirect(url_for("day.show", day_id=day.id))
    return redirect(url_for("day.show", day_id=known[-1].id))


@bp.get("/home")
def home() -> ResponseReturnValue:
    """List productions and days."""
    known = days.all_days(session())
    told = brief.of_days(session())
    by_production: dict[int, list[DayLine]] = {}
    for production, day in known:
        now = told[day.id]
        if not now.is_fresh and len(known) <= _FEW:
            now = _reckoned(day.id)
        by_production.setdefault(production.id, []).append(_line(production, day, now))
    return render_template("home/page.html", productions=list(by_production.values()))


@bp.get("/home/days/<int:day_id>")
def line(day_id: int) -> ResponseReturnValue:
    """Give one day's line, reckoned anew."""
    day = days.get_day(session(), day_id)
    made = _line(days.get_production(session(), day.production_id), day, _reckoned(day_id))
    return render_template("home/_line.html", line=made)
