"""The day: its chart and its take ledger, and what is done to several takes together."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import partial

from flask import Blueprint, render_template, request, url_for
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from vesk.actions import correct, hearing, scoping, sources, tolerance
from vesk.actions.deciding import Decision, decision_by, decisions
from vesk.actions.hearing import Hearing
from vesk.actions.overview import Overview
from vesk.actions.scoping import Act, Standing
from vesk.core.errors import NumberError, RefusedError, VeskError
from vesk.core.figures import read_whole
from vesk.core.kinds import Kind
from vesk.core.tolerance import Tolerance, what_it_means
from vesk.core.wording import signed
from vesk.store import changes, days, pairings
from vesk.web.day import ledger
from vesk.web.day.chart import LEFT, WIDEST, WIDTH, chart
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame
from vesk.web.shared.scrolled import scrolled

_NARROWEST = 400
bp = Blueprint("day", __name__, url_prefix="/days/<int:day_id>", template_folder="templates")


@dataclass(frozen=True, slots=True)
class _Drawn:
    """All that a day's page shows, but for what was just done."""

    rows: list[ledger.Row]
    headline: str
    counts: dict[str, int]
    chart: Markup | None
    decisions: list[Decision]
    standing: list[Standing]


def _drawn(view: Overview) -> _Drawn:
    listed = ledger.rows(view)
    return _Drawn(
        listed,
        ledger.headline(listed),
        {name: sum(row.shown_by(name) for row in listed) for name in ledger.FILTERS},
        _chart(view, listed, WIDTH),
        decisions(view),
        scoping.standing(view),
    )


def _chart(view: Overview, listed: list[ledger.Row], width: int) -> Markup | None:
    """Draw the day's chart as wide as asked."""
    partners: dict[int, tuple[int, str]] = {}
    for row in listed:
        if row.now is not None:
            for member in (row.now.pairing.picture_id, row.now.pairing.sound_id):
                partners.setdefault(member, (row.now.pairing.id, row.state))
    found = chart(view.sources, view.recordings, days.rate_of(view.day), partners, view.placed, view.members, width)
    if found is None:
        return None
    drawn = render_template("day/_chart.html", chart=found, day_id=view.day.id, left=LEFT)
    return Markup(drawn)  # noqa: S704 - rendered, escaped


def _show(
    day_id: int, *, status: int = 200, problems: list[str] | None = None, done: str = "", act: str = ""
) -> ResponseReturnValue:
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
        counts=drawn.counts, filters=ledger.FILTERS, always=ledger.ALWAYS, chosen=chosen, chart=drawn.chart,
        lets_pass=what_it_means(Tolerance(frame.day.tolerance), frame.day.fps),
        decisions=drawn.decisions, standing=drawn.standing, problems=problems or [],
        done=done, act=act,
    )  # fmt: skip


@bp.get("/")
def show(day_id: int) -> ResponseReturnValue:
    """Show the day."""
    return _show(day_id)


@bp.get("/chart")
def drawn_chart(day_id: int) -> ResponseReturnValue:
    """Give the day's chart alone, as wide as asked: from the whole day to single takes."""
    view = Overview(session(), day_frame(day_id).day)
    try:
        width = min(max(read_whole(request.args.get("width", "")[:9]), _NARROWEST), WIDEST)
    except NumberError:
        raise RefusedError("A chart is as many pixels wide as its width says.") from None
    drawn = view.of(("chart", width), lambda: _chart(view, ledger.rows(view), width))
    return drawn or ""


@bp.post("/together")
def together(day_id: int) -> ResponseReturnValue:
    """Take the proposal for, or check, every selected pairing; what cannot be done is said, the rest is done."""
    wanted = form.text("do")
    if wanted not in {*_TOGETHER, "slip", "tolerance"} and not (wanted == "settle" and form.text("decision")):
        raise RefusedError("Choose what to do with the selected takes.")
    day = days.get_day(session(), day_id)
    if form.text("decision"):
        changes.hold(session(), day_id)
        view = Overview(session(), day)
        about = decision_by(view, form.text("decision"))
        made = scoping.take_for_devices(session(), settings(), view, about.groups, check=wanted == "settle")
        session().commit()
        takes = f"{made.count} {'take' if made.count == 1 else 'takes'}"
        how = "as proposed"
        if len(about.scopes) == len(about.groups):
            how = "by one correction" + (f" for each of {len(about.groups)}" if about.scoped is None else "")
        said = f"{takes} corrected {how}{f'; {about.takes} marked as checked' if wanted == 'settle' else ''}."
        return _show(day_id, problems=list(made.problems), done=said, act=made.act)
    do, said = _asked(wanted)
    made = scoping.do_to_selected(session(), settings(), day, form.versions("pairing"), do, said)
    session().commit()
    done = f"{made.count} {said}." if form.versions("pairing") else "Nothing is selected: tick the takes first."
    act = "" if wanted == "tolerance" else made.act  # nothing of that stands to be undone: it is set again
    return _show(day_id, problems=list(made.problems), done=done, act=act)


@bp.post("/acts/<act>/undo")
def undo_act(day_id: int, act: str) -> ResponseReturnValue:
    """Undo all that was done at once."""

    def work() -> str:
        count = scoping.undo_act(session(), settings(), days.get_day(session(), day_id), act)
        return f"Undone for {count} {'take' if count == 1 else 'takes'}."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problems=[problem] if problem else [], done=said)


_TOGETHER: dict[str, tuple[Act, str]] = {
    "proposal": (correct.take_proposal, "corrected as proposed"),
    "check": (correct.check, "marked as checked"),
}


def _asked(wanted: str) -> tuple[Act, str]:
    """Return what is done to each of the selected, and what it is called."""
    if wanted == "slip":
        frames = _slip_frames()
        return partial(correct.set_own, slip=lambda now: now.as_corrected.slip + frames / now.fps), (
            f"slipped by {signed(float(frames), 3)} f from where they lay"
        )
    if wanted == "tolerance":
        text = form.text("tolerance")
        return partial(tolerance.set_of_take, text=text), f"given a tolerance of {text.strip() or 'the day'}"
    return _TOGETHER[wanted]


def _slip_frames() -> Fraction:
    frames = form.number("slip_frames", "frames")
    if not frames:
        raise RefusedError("Type by how many frames the selected shall move; + is later.")
    return frames


@bp.post("/together/preview")
def would(day_id: int) -> ResponseReturnValue:
    """Say what slipping the selected would do to the best and the worst of them."""
    view = Overview(session(), day_frame(day_id).day)
    try:
        frames, chosen = _slip_frames(), form.versions("pairing")
        about = [one for one in view.statuses if one.pairing.id in chosen]
        if not about:
            raise RefusedError("Nothing is selected: tick the takes first.")
    except VeskError as error:
        return render_template("_before_after.html", problem=str(error), rows=[], count=0, says="")
    says = f"each slipped by {signed(float(frames), 3)} f"
    rows = scoping.slip_preview(about, frames)
    return render_template("_before_after.html", problem="", rows=rows, count=len(about), says=says)


def _hearings(view: Overview) -> list[Hearing]:
    return hearing.of_takes(view, set(form.versions("pairing")), form.word("whose", Kind), form.ears())


@bp.post("/hearing/preview")
def would_hear(day_id: int) -> ResponseReturnValue:
    """Say what would follow of how the devices of the selected hear."""
    view = Overview(session(), day_frame(day_id).day)
    try:
        about = _hearings(view)
    except VeskError as error:
        return render_template("_before_after.html", problem=str(error), rows=[], count=0, says="")
    rows = scoping.best_and_worst([row for one in about for row in one.rows])
    count, says = sum(len(one.takes) for one in about), "; ".join(one.says for one in about)
    return render_template("_before_after.html", problem="", rows=rows, count=count, says=says)


@bp.post("/hearing")
def hear(day_id: int) -> ResponseReturnValue:
    """Say how the devices of the selected hear in these recordings alone."""

    def work() -> str:
        changes.hold(session(), day_id)
        for number, version in form.versions("pairing").items():
            pairings.get_for_change(session(), number, version)
        view = Overview(session(), days.get_day(session(), day_id))
        return hearing.say(session(), settings(), day_id, _hearings(view))

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problems=[problem] if problem else [], done=said)


@bp.post("/tolerance")
def let_pass(day_id: int) -> ResponseReturnValue:
    """Set what error is let pass on the day."""

    def work() -> str:
        day = tolerance.set_of_day(session(), settings(), day_id, version=form.version(), text=form.text("tolerance"))
        return f"Let pass from now on: {what_it_means(Tolerance(day.tolerance), day.fps)}."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problems=[problem] if problem else [], done=said)


@bp.post("/ears/<int:source_id>")
def ears(day_id: int, source_id: int) -> ResponseReturnValue:
    """Say how late a camera hears: as its evidence says, or just as it is entered."""
    wanted = form.text("do")

    def work() -> str:
        view = Overview(session(), days.get_day(session(), day_id))
        source = days.get_source(session(), source_id)
        found = view.solution.lateness.get(source.tag)
        if wanted not in {"take", "keep"} or source.day_id != day_id or (wanted == "take" and found is None):
            raise RefusedError("That is not asked here any more. Look at what is left to decide.")
        late_s = found.best_s if found is not None and wanted == "take" else None
        row = sources.say_ears(session(), settings(), source_id, version=form.version(), late_s=late_s)
        return f"{row.tag} hears {row.delay_us / 1000:+.1f} ms, as you said; everything of it follows."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problems=[problem] if problem else [], done=said)
