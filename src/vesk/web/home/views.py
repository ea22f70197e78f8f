"""Home: productions and their days, and what each still needs."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, redirect, render_template, url_for
from flask.typing import ResponseReturnValue

from vesk.actions.deciding import decisions
from vesk.actions.overview import Overview
from vesk.core.kinds import PICTURE
from vesk.core.timecode import FrameRate
from vesk.store import days
from vesk.store.tables import Day, Production
from vesk.web.shared import session
from vesk.web.shared.progress_view import ProgressLine, progress_line

bp = Blueprint("home", __name__, template_folder="templates")


@dataclass(frozen=True, slots=True)
class DayLine:
    """A day in the list: its clock, what is still to be answered, how it stands in one sentence, what runs."""

    production: Production
    day: Day
    clock: FrameRate
    answers: int
    headline: str
    progress: ProgressLine


def _line(production: Production, day: Day) -> DayLine:
    view = Overview(session(), day)
    asked, says = view.of("home", lambda: (len(decisions(view)), _stands(view)))
    return DayLine(production, day, days.rate_of(day), asked, says, progress_line(session(), day.id))


def _stands(view: Overview) -> str:
    """Say in a few words how a day stands."""
    takes = {row.id for row in view.recordings if row.kind == PICTURE and row.state == "ready" and not row.aside}
    paired = {now.picture.id for now in view.statuses} & takes
    needing = {now.picture.id for now in view.statuses if now.needs_person} & takes
    parts = [f"{len(takes)} camera {'take' if len(takes) == 1 else 'takes'}", f"{len(paired - needing)} hold"]
    parts += [f"{len(needing)} need you"] if needing else []
    parts += [f"{len(takes - paired)} without sound"] if takes - paired else []
    return ", ".join(parts)


@bp.get("/")
def front() -> ResponseReturnValue:
    """Go to the first day that still asks something, else to the newest; to naming one where there is none."""
    known = days.all_days(session())
    if not known:
        return redirect(url_for("intake.new_day"))
    asking = (day.id for _, day in known if decisions(Overview(session(), day)))
    return redirect(url_for("day.show", day_id=next(asking, known[-1][1].id)))


@bp.get("/home")
def home() -> ResponseReturnValue:
    """List productions and days."""
    lines = [_line(production, day) for production, day in days.all_days(session())]
    by_production: dict[int, list[DayLine]] = {}
    for line in lines:
        by_production.setdefault(line.production.id, []).append(line)
    return render_template("home/page.html", productions=list(by_production.values()))
