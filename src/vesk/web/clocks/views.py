"""Clocks: each device over the day, against the one that is taken for the truth; one correction for all it caused."""

from __future__ import annotations

from fractions import Fraction
from math import isfinite

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from vesk.actions import displays, hearing, returning, scoping, sources
from vesk.actions.device_clocks import DeviceView, device_views, partings_of
from vesk.actions.overview import Overview
from vesk.actions.scoping import Scoped
from vesk.core.conform.device import DeviceCorrection
from vesk.core.day.loops import suspects
from vesk.core.errors import RefusedError, TimecodeError, VeskError
from vesk.core.kinds import PICTURE, Kind
from vesk.core.timecode import FrameRate, Timecode, wrap_day
from vesk.core.timemap import MILLION
from vesk.store import changes, days
from vesk.web.clocks import plot
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint(
    "clocks", __name__, template_folder="templates", static_folder="static", static_url_path="/static/clocks"
)
HERE = "/days/<int:day_id>/clocks"
_LOOPS = 12


def _asked(name: str, otherwise: float) -> float:
    """Return a number that the address gives; nonsense is as if nothing was given."""
    try:
        value = float(request.values.get(name, "")[:24])
    except ValueError:
        return otherwise
    return value if isfinite(value) and abs(value) < 1e7 else otherwise


def _show(
    day_id: int, *, status: int = 200, problem: str = "", done: str = "", act: str = "",
    typed: dict[str, str] | None = None,
) -> ResponseReturnValue:  # fmt: skip
    frame = day_frame(day_id)
    view = Overview(session(), frame.day)
    truth = request.values.get("truth", "")[:40]
    found = view.of(("clocks", truth), lambda: device_views(view, truth))
    fps = float(frame.day.fps)
    low, high = plot.whole(found)
    since, until = _asked("since", low), _asked("until", high)
    if not low - 1 <= since < until <= high + 1:
        since, until = low, high
    tall = max(0.05, min(_asked("tall", plot.tallest(found, fps)), 1e5))
    window = plot.Window(since, until, tall)
    names = {str(row.id): row.name for row in view.recordings}
    suspect = suspects(view.solution.loops, view.solution.open_loops)
    return render(
        "clocks/page.html", "clocks/_clocks.html", status=status, frame=frame, fps=fps, day_end=high,
        views=[(one, plot.draw(one, window, fps, frame.clock)) for one in found],
        size=(plot.WIDTH, plot.HEIGHT, plot.LEFT, plot.FOOT), window=window, whole=(low, high), truth=truth,
        loops=[
            (one, [names.get(key, key) for key in one.members], suspect.get(one.members))
            for one in view.solution.loops[:_LOOPS]
        ],
        names=names,
        loop_count=len(view.solution.loops), open_loops=len(view.solution.open_loops),
        standing=scoping.standing(view),
        partings=view.of("partings", lambda: partings_of(view)),
        displays=view.of("displays", lambda: displays.displays(session(), view)),
        lights=view.of("lights", lambda: displays.lights(session(), view)),
        jams=_jams(found, frame.clock),
        cameras=[one for one in view.sources if one.kind == PICTURE],
        recorders=[one for one in view.sources if one.kind != PICTURE],
        own_ears=[(tag, hearing.told(rows)) for tag, rows in hearing.standing(view)],
        typed=typed or {name: request.values.get(name, "") for name in _FIELDS}, problem=problem, done=done, act=act,
    )  # fmt: skip


@bp.get(HERE)
def show(day_id: int) -> ResponseReturnValue:
    """Show every device's clock over the day."""
    return _show(day_id)


_FIELDS = ("camera", "recorder", "slip", "hourly", "ppm", "since_label", "before_label", "retimed", "over")


def _jams(views: list[DeviceView], clock: FrameRate) -> list[tuple[str, str]]:
    """Return the middle of every gap in which a device was set anew: a label to type, and whose it is."""
    every = {
        (str(Timecode.at(Fraction(round((low + high) / 2)), clock))[:8], one.shown.device)
        for one in views
        for low, high in one.shown.jams
    }
    return sorted(every)


def _scope(view: Overview) -> Scoped:
    """Read a correction as typed: slip and growth in frames, rate in ppm, between two labels."""
    sources = {source.id: source for source in view.sources}
    camera, recorder = (sources.get(form.whole(name)) for name in ("camera", "recorder"))
    if camera is None or recorder is None or camera.kind != PICTURE or recorder.kind == PICTURE:
        raise RefusedError("Choose a camera and a recorder of this day.")
    fps = view.day.fps
    slip = _slip(view)
    hourly = (form.number("hourly", "frames an hour") if form.text("hourly") else Fraction(0)) / fps
    ppm = form.number("ppm", "ppm") if form.text("ppm") else Fraction(0)
    since, before = (_label(view, name) for name in ("since_label", "before_label"))
    anchor = since if since is not None else _first_start(view, camera.id)
    retimed = form.word("retimed", Kind) if form.text("retimed") else Kind.SOUND
    made = DeviceCorrection(slip, hourly / 3600 * MILLION, ppm, anchor, retimed)
    over = form.text("over") == "yes"
    return scoping.typed_scope(view, camera, recorder, made, since=since, before=before, over=over)


def _first_start(view: Overview, source_id: int | None) -> Fraction:
    """Return the earliest label of a camera's recordings: what a slip that grows is told at.

    Raises
    ------
    RefusedError
        If it has no clock.
    """
    starts = [row.start for row in view.recordings if row.source_id == source_id and row.start is not None]
    if not starts:
        raise RefusedError("This camera has no clock: nothing over the day can be corrected. Join its takes by hand.")
    return min(starts)


def _slip(view: Overview) -> Fraction:
    """Read a slip, seconds: frames; or a label with a sign, where a clock was set hours or a day wrong."""
    text = form.text("slip").strip().replace("\N{MINUS SIGN}", "-")
    if ":" not in text:
        return form.number("slip", "frames") / view.day.fps
    clock = days.rate_of(view.day)
    try:
        size = Timecode.parse(text.lstrip("+-"), clock).seconds
    except TimecodeError as error:
        raise RefusedError(f"{text!r} is no slip: write frames, or -01:00:00:00. ({error})") from None
    return -size if text.startswith("-") else size


def _label(view: Overview, name: str) -> Fraction | None:
    text = form.text(name)
    if not text:
        return None
    clock = days.rate_of(view.day)
    full = text if text.count(":") + text.count(";") == 3 else f"{text}{';' if clock.drop else ':'}00"
    try:
        return Timecode.parse(full, clock).seconds
    except TimecodeError as error:
        raise RefusedError(f"{text!r} is no time of the day: write 13:40:00. ({error})") from None


@bp.post(f"{HERE}/preview")
def preview(day_id: int) -> ResponseReturnValue:
    """Say what a typed correction would touch, and what it leaves on the best and the worst of these takes."""
    view = Overview(session(), day_frame(day_id).day)
    try:
        scoped = _scope(view)
    except VeskError as error:
        return render_template("_before_after.html", problem=str(error), rows=[], count=0, says="")
    rows = scoping.before_and_after(scoped, days.rate_of(view.day).day)
    count, says = len(scoped.touched), scoped.says + _on_top(scoped)
    return render_template(
        "_before_after.html", problem="", rows=rows, count=count, says=says, stays=not scoped.row.over
    )


def _on_top(scoped: Scoped) -> str:
    """Return what a correction adds to, or takes the place of, on the takes that it touches."""
    parts = {part.id: part for one in scoped.touched for part in one.parts}.values()
    said = ""
    if any(part.scope == scoped.row.scope for part in parts):
        said += ", in place of the one that stands for the same"
    if any(part.scope != scoped.row.scope for part in parts):
        said += ", added to what the other scopes do"
    return said


@bp.post(f"{HERE}/fit")
def fit(day_id: int) -> ResponseReturnValue:
    """Fill in what fits the takes of a camera with a recorder, between the two labels; nothing is corrected yet."""
    view = Overview(session(), day_frame(day_id).day)
    typed = {name: form.text(name) for name in _FIELDS}
    try:
        scoped = _fitted(view)
    except VeskError as error:
        return _show(day_id, status=form.status_of(error), problem=str(error), typed=typed)
    row, fps = scoped.row, float(view.day.fps)
    clock = days.rate_of(view.day)
    anchor = row.since if row.since is not None else _first_start(view, row.picture_source_id)
    slip = row.slip + row.drift * wrap_day(anchor - row.anchor, clock.day) / MILLION
    labels = [("since_label", row.since), ("before_label", row.before)]
    typed |= {
        "slip": f"{float(slip) * fps:.4f}", "hourly": f"{float(row.drift) * 3600e-6 * fps:.4f}",
        "ppm": f"{float(row.ppm):.4f}",
        **{name: "" if at is None else str(Timecode.at(at, clock)) for name, at in labels},
    }  # fmt: skip
    left = f"; {len(scoped.left)} of them it does not put right" if scoped.left else ""
    said = f"What fits {len(scoped.touched)} takes is filled in below{left}. Nothing is corrected yet."
    return _show(day_id, done=said, typed=typed)


def _fitted(view: Overview) -> Scoped:
    """Return the correction that fits the takes between what is typed.

    Raises
    ------
    RefusedError
        If no one correction fits half of them.
    """
    sources = {source.id: source for source in view.sources}
    camera, recorder = (sources.get(form.whole(name)) for name in ("camera", "recorder"))
    if camera is None or recorder is None:
        raise RefusedError("Choose a camera and a recorder of this day.")
    since, before = (_label(view, name) for name in ("since_label", "before_label"))
    length = days.rate_of(view.day).day
    about = [
        one for one in view.statuses
        if (one.picture_source.id, one.sound_source.id) == (camera.id, recorder.id)
        and one.timed and one.settled and one.picture.start is not None
        and (since is None or wrap_day(one.picture.start - since, length) >= 0)
        and (before is None or wrap_day(one.picture.start - before, length) < 0)
    ]  # fmt: skip
    scoped = scoping.scope_of(view, about) if about else None
    if scoped is None:
        raise RefusedError(
            f"No one correction puts half of {camera.tag} with {recorder.tag} right there: correct each take as "
            "it was measured, or choose a part of the day between two jams."
        )
    return scoped


@bp.post(f"{HERE}/correct")
def correct(day_id: int) -> ResponseReturnValue:
    """Take a typed correction for a device."""
    acts: list[str] = []

    def work() -> str:
        view = Overview(session(), days.get_day(session(), day_id))
        made = scoping.take_scope(session(), settings(), view, _scope(view))
        acts.append(made.act)
        return f"{made.count} {'take' if made.count == 1 else 'takes'} corrected by one correction."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, done=said, act=acts[0] if acts else "")


def _hearing(view: Overview) -> hearing.Hearing:
    source = next((one for one in view.sources if one.id == form.whole("device")), None)
    if source is None:
        raise RefusedError("Choose a device of this day.")
    since, before = (_label(view, name) for name in ("since_label", "before_label"))
    return hearing.of_stretch(view, source, since, before, form.ears())


@bp.post(f"{HERE}/hearing/preview")
def would_hear(day_id: int) -> ResponseReturnValue:
    """Say what would follow of how a device hears in a part of the day."""
    view = Overview(session(), day_frame(day_id).day)
    try:
        about = _hearing(view)
    except VeskError as error:
        return render_template("_before_after.html", problem=str(error), rows=[], count=0, says="")
    rows = scoping.best_and_worst(about.rows)
    return render_template("_before_after.html", problem="", rows=rows, count=len(about.takes), says=about.says)


@bp.post(f"{HERE}/hearing")
def hear(day_id: int) -> ResponseReturnValue:
    """Say how a device hears in a part of the day."""

    def work() -> str:
        changes.hold(session(), day_id)
        view = Overview(session(), days.get_day(session(), day_id))
        return hearing.say(session(), settings(), day_id, [_hearing(view)])

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, done=said)


@bp.get(f"{HERE}/other-days")
def other_days(day_id: int) -> ResponseReturnValue:
    """Say what the production's other days know of this day's devices."""
    day = day_frame(day_id).day
    return render_template("clocks/_other_days.html", returned=returning.returned(session(), day), day=day)


@bp.post("/sources/<int:source_id>/as-on/<int:other_id>")
def as_on(source_id: int, other_id: int) -> ResponseReturnValue:
    """Take over what was entered of a device on another day: how far its microphone, how late it hears."""
    day_id = days.get_source(session(), source_id).day_id

    def work() -> str:
        known = returning.returned(session(), days.get_day(session(), day_id))
        own = next((one for one in known if one.source.id == source_id), None)
        offer = own.take_over if own is not None else None
        if own is None or offer is None or offer.source.id != other_id:
            raise RefusedError("That is not offered here any more: look at what other days know.")
        row = sources.describe(
            session(), settings(), source_id, version=form.version(), name=own.source.name,
            distance_m=Fraction(offer.source.distance_mm, 1000), delay_ms=Fraction(offer.source.delay_us, 1000),
        )  # fmt: skip
        return f"{row.tag} hears as on day {offer.day.number}; everything of it follows."

    status, problem, said = form.act(work)
    return _show(day_id, status=status, problem=problem, done=said)
