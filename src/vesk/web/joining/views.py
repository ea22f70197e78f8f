"""Joining by hand: two recordings beside each other, the same event put on both, what follows, taken."""

from __future__ import annotations

from math import ceil

from flask import Blueprint, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import joining
from vesk.actions.facts import facts_of
from vesk.actions.joining import Both
from vesk.actions.overview import Overview
from vesk.core.errors import NumberError, RefusedError, VeskError
from vesk.core.figures import read_whole
from vesk.core.kinds import PICTURE, SOUND
from vesk.jobs.tasks import ask_measure, ask_solved
from vesk.store import days, recordings
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint(
    "joining", __name__, template_folder="templates", static_folder="static", static_url_path="/static/joining"
)
HERE = "/days/<int:day_id>/joining/"


def _both(day_id: int) -> Both:
    day = days.get_day(session(), day_id)
    numbers = [_number(name) for name in ("picture", "sound")]
    return joining.both_of(session(), day, *numbers)


def _number(name: str) -> int:
    try:
        return read_whole(request.values.get(name, "")[:20])
    except NumberError:
        raise RefusedError("Choose a picture and a sound.") from None


def _show(day_id: int, *, status: int = 200, problem: str = "", done: str = "") -> ResponseReturnValue:
    frame = day_frame(day_id)
    view = Overview(session(), frame.day)
    usable = [row for row in view.recordings if row.state == recordings.READY and not row.aside]
    tags: dict[int | None, str] = {source.id: source.tag for source in view.sources}
    of = {kind: request.values.get(name, "") for kind, name in ((PICTURE, "camera"), (SOUND, "recorder"))}
    usable = [row for row in usable if of.get(row.kind or PICTURE, "") in {"", str(row.source_id)}]
    chosen = {name: request.values.get(name, "") for name in ("picture", "sound")}
    both = _both(day_id) if all(chosen.values()) else None
    if both is None and all(of.values()) and not any(chosen.values()):
        both = joining.first_of(view, usable)
        chosen = {"picture": str(both.picture.id), "sound": str(both.sound.id)} if both else chosen
    at = {name: request.values.get(f"{name}_at", "") for name in chosen}
    state = None
    if both is not None:
        if not any(at.values()) and both.now is not None:  # where it lies now: nothing moves before something is said
            frame_now = ceil(both.now.points[0] * both.fps)
            at = {"picture": f"frame {frame_now}", "sound": f"{float(frame_now / both.fps - both.now.laid.offset):.4f}"}
        picture, sound = facts_of(both.picture), facts_of(both.sound)
        state = {
            "fps": float(both.fps), "frames": picture.frames or 0,
            "picture": {"id": both.picture.id, "rate": picture.sample_rate, "channels": picture.channels,
                        "channel": both.now.scratch_channel if both.now else 0},
            "sound": {"id": both.sound.id, "rate": sound.sample_rate, "seconds": float(both.sound.duration)},
        }  # fmt: skip
    return render(
        "joining/page.html", "joining/_joining.html", status=status, frame=frame, both=both, chosen=chosen, at=at,
        pictures=[row for row in usable if row.kind == PICTURE], sounds=[row for row in usable if row.kind == SOUND],
        tags=tags, of=of, sources=view.sources, state=state, problem=problem, done=done,
    )  # fmt: skip


@bp.get(HERE)
def show(day_id: int) -> ResponseReturnValue:
    """Show two recordings beside each other, or what there is to choose from."""
    return _show(day_id)


@bp.get(f"{HERE}said")
def said(day_id: int) -> ResponseReturnValue:
    """Say what would follow of the same event on both."""
    try:
        both = _both(day_id)
        event = both.read(request.args.get("picture_at", "")[:40], request.args.get("sound_at", "")[:40])
        says = f"{both.says(event)} {joining.others(Overview(session(), both.day), both, event)}"
        return render_template("joining/_said.html", says=says.strip(), problem="")
    except VeskError as error:
        return render_template("joining/_said.html", says="", problem=str(error))


@bp.post(HERE)
def join(day_id: int) -> ResponseReturnValue:
    """Lay the sound where the same event is on both, have sound measure around it, and show it on the bench."""
    made: list[int] = []

    wanted = form.text("do")

    def work() -> str:
        both = _both(day_id)
        if wanted == "belong":
            row = joining.belong(session(), settings(), both, version=form.version())
        else:
            event = both.read(form.text("picture_at"), form.text("sound_at"))
            if wanted == "point":
                joining.keep_event(session(), settings(), both, event, name=form.text("name"))
                ask_solved(session(), day_id)
                return ""
            row = joining.join(session(), settings(), both, event, version=form.version())
        ask_measure(session(), row.id)
        made.append(row.id)
        return ""

    status, problem, _ = form.act(work)
    if problem or not made:
        said = "" if problem else "It is a sync point of both now: wherever one lies, the other follows."
        return _show(day_id, status=status, problem=problem, done=said)
    return redirect(url_for("bench.show", pairing_id=made[0]), 303)
