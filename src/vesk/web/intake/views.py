"""Intake: name a day, take its folder in, see what came and what each source is known to be."""

from __future__ import annotations

from datetime import UTC, date, datetime
from pathlib import Path

from flask import Blueprint, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import intake, sources, sync_points
from vesk.actions.overview import Overview
from vesk.core.clocks.choice import CHOICES
from vesk.core.errors import BusyError, MediaError, RefusedError
from vesk.core.timecode import FrameRate
from vesk.jobs.tasks import ask_intake
from vesk.media.answering import within
from vesk.media.browse import Looked, look
from vesk.store import days, overrides
from vesk.web.intake import listing
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import RATES, day_frame
from vesk.web.shared.scrolled import scrolled

bp = Blueprint("intake", __name__, template_folder="templates")


def _new(*, status: int = 200, problem: str = "") -> ResponseReturnValue:
    looked, said = _look()
    return render_template(
        "intake/new.html", roots=settings().media_roots, looked=looked, rates=RATES, form=request.form,
        problem=problem or said,
        known=days.all_days(session()), today=datetime.now(UTC).date(),
    ), status  # fmt: skip


def _look() -> tuple[Looked, str]:
    """Look at the folder that is asked for; where it cannot be, at the top, and say why."""
    at, roots = request.values.get("at", "")[: form.LONGEST], settings().media_roots
    try:
        return within(at or roots, lambda: look(Path(at) if at else None, roots)), ""
    except BusyError as error:
        return Looked(None, None, [], chosen=False, others=False), str(error)
    except MediaError as error:
        return within(roots, lambda: look(None, roots)), str(error)


@bp.get("/new/folders")
def folders() -> ResponseReturnValue:
    """Show one folder to choose, and what lies in it."""
    looked, problem = _look()
    return render_template("intake/_folders.html", looked=looked, problem=problem, typed="")


@bp.get("/new")
def new_day() -> ResponseReturnValue:
    """Ask for a production, a day and its folder."""
    return _new()


@bp.post("/new")
def make_day() -> ResponseReturnValue:
    """Name the day and take its folder in, or give the form back with what is wrong."""
    made = []

    def work() -> str:
        try:
            shot_on = date.fromisoformat(form.text("shot_on"))
        except ValueError:
            raise RefusedError("The date is written like 2027-03-18.") from None
        day = intake.name_day(
            session(), settings(), production=form.text("production"), number=_day_number(), shot_on=shot_on,
            rate=FrameRate.parse(form.text("rate")), folder=form.text("folder").strip(),
        )  # fmt: skip
        ask_intake(session(), day.id)
        made.append(day.id)
        return ""

    status, problem, _ = form.act(work)
    if problem:
        return _new(status=status, problem=problem)
    return redirect(url_for("intake.show", day_id=made[0]), 303)


def _day_number() -> int:
    try:
        return form.whole("number", most=9999)
    except RefusedError:
        raise RefusedError("The shoot day is a number, like 6.") from None


def show_day(day_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    """Show what came, as it is known now."""
    frame = day_frame(day_id)
    opened = session()
    view = Overview(opened, frame.day)
    known, sources_ = view.known, view.sources
    accepted = overrides.accepted(opened, day_id)
    lines = view.of("intake lines", lambda: listing.lines(view.recordings, view.known, accepted))
    chosen, order = request.values.get("show", "all"), request.values.get("order", "path")
    names = {**listing.FILTERS, **{f"source:{source.tag}": source.tag for source in sources_}}
    if len(folders := listing.folders(lines)) > 1 and folders != {source.folder for source in sources_}:
        names |= {f"folder:{folder}": f"{folder}/" for folder in sorted(folders)}
    chosen = chosen if chosen in names else "all"
    shown = listing.ordered([line for line in lines if line.shown_by(chosen)], order)
    listed = scrolled(shown, url_for("intake.show", day_id=day_id, show=chosen, order=order))
    if listed.alone:
        return render_template("intake/_lines.html", lines=listed.rows)
    delays = {source.id: sync_points.source_delay(opened, source) for source in sources_}
    return render(
        "intake/page.html", "intake/_intake.html", status=status, frame=frame, sources=sources_,
        clocks=known.clocks, stretches=days.clock_periods(opened, day_id), listed=listed, count=len(lines),
        filters=names, counts={name: sum(line.shown_by(name) for line in lines) for name in names},
        chosen=chosen, order=order, orders=listing.ORDERS, weights=listing.WEIGHTS,
        oddities=[one for one in known.oddities if one.key not in accepted],
        accepted=[(one, accepted[one.key]) for one in known.oddities if one.key in accepted],
        delays=delays, total=sum(row.size for row in view.recordings), choices=CHOICES, problem=problem, said=said,
    )  # fmt: skip


@bp.get("/days/<int:day_id>/intake")
def show(day_id: int) -> ResponseReturnValue:
    """Show what came."""
    return show_day(day_id)


@bp.post("/days/<int:day_id>/intake")
def again(day_id: int) -> ResponseReturnValue:
    """Take the folder in again."""
    days.get_day(session(), day_id)
    ask_intake(session(), day_id)
    session().commit()
    return show_day(day_id, said="Taking the folder in again; what was decided stays.")


@bp.post("/sources/<int:source_id>")
def describe(source_id: int) -> ResponseReturnValue:
    """Save what is known of a source."""
    day_id = days.get_source(session(), source_id).day_id

    def work() -> str:
        source = sources.describe(
            session(), settings(), source_id, version=form.version(), name=form.text("name"),
            distance_m=form.number("distance_m", "metres"), delay_ms=form.number("delay_ms", "milliseconds"),
        )  # fmt: skip
        return f"Source {source.tag} is saved; every pairing of it follows."

    status, problem, said = form.act(work)
    return show_day(day_id, status=status, problem=problem, said=said)


@bp.post("/sources/<int:source_id>/delay")
def delay_from_claps(source_id: int) -> ResponseReturnValue:
    """Enter the internal sound delay that a camera's confirmed claps show."""
    day_id = days.get_source(session(), source_id).day_id

    def work() -> str:
        source = sync_points.take_delay(session(), settings(), source_id, version=form.version())
        return f"Source {source.tag}: {source.delay_us / 1000:+.1f} ms, by its claps."

    status, problem, said = form.act(work)
    return show_day(day_id, status=status, problem=problem, said=said)
