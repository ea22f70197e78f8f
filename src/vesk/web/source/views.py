"""The page of one source."""

from __future__ import annotations

from collections.abc import Callable

from flask import Blueprint, redirect, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import clocks, sources
from vesk.actions.overview import Overview
from vesk.core.clocks.choice import CHOICES
from vesk.core.errors import NotFoundError, RefusedError, StaleError
from vesk.core.kinds import Clock, Kind
from vesk.core.timecode import FrameRate, Timecode
from vesk.jobs.tasks import pair_again
from vesk.store import days
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import RATES, day_frame
from vesk.web.source.solved import told_of

bp = Blueprint("source", __name__, template_folder="templates")


def _show(source_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    opened = session()
    source = days.get_source(opened, source_id)
    if source.gone:
        gone = f"Source {source.tag} is no more: its recordings were moved to another."
        raise StaleError(problem) if status == 409 else NotFoundError(gone)
    frame = day_frame(source.day_id)
    view = Overview(opened, frame.day)
    known = view.known
    own = [one for one in known.recordings.values() if one.item.source == source.tag]
    return render(
        "source/page.html", "source/_source.html", status=status, frame=frame, source=source,
        choice=known.clocks.get(source.tag), choices=CHOICES, rates=[str(FrameRate.parse(rate)) for rate in RATES],
        own=sorted(own, key=lambda one: (one.start is None, one.start or 0, one.item.path)),
        stretches=[
            (one, str(Timecode.at(one.since, frame.clock)), str(Timecode.at(one.before, frame.clock)))
            for one in days.clock_periods(opened, source.day_id).get(source_id, [])
        ],
        filmed=any(one.item.facts.codec or one.item.facts.coded for one in own),
        others=[one for one in days.sources(opened, source.day_id) if one.kind == source.kind and one.id != source_id],
        found=told_of(view.solution, source.tag, frame.clock),
        problem=problem, said=said,
    )  # fmt: skip


def _do(source_id: int, work: Callable[[int], str]) -> tuple[int, str, str]:
    """Do one thing to a source on the version its page showed, and pair the day again."""
    day_id = days.get_source(session(), source_id).day_id

    def both() -> str:
        said = work(form.version())
        pair_again(session(), days.get_day(session(), day_id))
        return said

    return form.act(both)


def _done(source_id: int, work: Callable[[int], str]) -> ResponseReturnValue:
    status, problem, said = _do(source_id, work)
    return _show(source_id, status=status, problem=problem, said=said)


@bp.get("/sources/<int:source_id>/all")
def show(source_id: int) -> ResponseReturnValue:
    """Show a source."""
    return _show(source_id)


@bp.post("/sources/<int:source_id>/all")
def revise(source_id: int) -> ResponseReturnValue:
    """Give it its tag, its place and its timecode's rate."""

    def work(version: int) -> str:
        row = sources.revise(
            session(), settings(), source_id, version=version, tag=form.text("tag"), position=_place(),
            rate=form.text("rate"),
        )  # fmt: skip
        return f"{row.tag} is saved; everything placed by its timecode follows."

    return _done(source_id, work)


def _place() -> int:
    try:
        return form.whole("position", most=99) if form.text("position").strip() else 0
    except RefusedError:
        raise RefusedError("Its place among the lanes is a number up to 99.") from None


@bp.post("/sources/<int:source_id>/stretch")
def stretch(source_id: int) -> ResponseReturnValue:
    """Trust another clock for a stretch of the day, or take that back."""

    def work(version: int) -> str:
        if form.text("end"):
            row = clocks.end_period(session(), settings(), source_id, version=version, period_id=form.whole("end"))
            return f"{row.tag}: that stretch is as the rest of the day again."
        row = clocks.choose_period(
            session(), settings(), source_id, version=version, since=form.text("since"),
            before=form.text("before"), clock=form.word("clock", Clock),
        )  # fmt: skip
        return f"{row.tag} is trusted by its {form.text('clock')} in that stretch."

    return _done(source_id, work)


@bp.post("/sources/<int:source_id>/kind")
def serve_as(source_id: int) -> ResponseReturnValue:
    """Let a camera serve as a recorder, or be a camera again."""

    def work(version: int) -> str:
        kind = form.word("kind", Kind)
        row = sources.serve_as(session(), settings(), source_id, version=version, kind=kind)
        what = "a recorder: its pictures are left out" if row.kind == Kind.SOUND else "a camera"
        return f"{row.tag} is {what}; the day is paired with it as such."

    return _done(source_id, work)


@bp.post("/sources/<int:source_id>/ears")
def forget_ears(source_id: int) -> ResponseReturnValue:
    """Take back what a person said of how late it hears."""

    def work(version: int) -> str:
        row = sources.forget_ears(session(), settings(), source_id, version=version)
        return f"What was said of {row.tag} is taken back; the day's evidence counts again."

    return _done(source_id, work)


@bp.post("/sources/<int:source_id>/merge")
def merge(source_id: int) -> ResponseReturnValue:
    """Put its recordings into another source."""
    day_id = days.get_source(session(), source_id).day_id

    def work(version: int) -> str:
        sources.merge(session(), settings(), source_id, version=version, into=form.text("into"))
        return ""

    status, problem, _ = _do(source_id, work)
    if problem:
        return _show(source_id, status=status, problem=problem)
    return redirect(url_for("intake.show", day_id=day_id), 303)
