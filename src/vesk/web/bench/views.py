"""The bench: one pairing looked at, listened to, measured and corrected."""

from __future__ import annotations

from fractions import Fraction

from flask import Blueprint, redirect, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import correct, standing
from vesk.actions.intake import facts_of, told_slate
from vesk.core.errors import RefusedError, StaleError, VeskError
from vesk.jobs.tasks import ask_measure
from vesk.store import pairings
from vesk.web.bench.state import bench_state, label_at, window_times
from vesk.web.shared import render, session, settings
from vesk.web.shared.page import day_frame
from vesk.web.shared.trace_plot import trace_plot

bp = Blueprint("bench", __name__, template_folder="templates", static_folder="static", static_url_path="/static/bench")


@bp.get("/days/<int:day_id>/bench")
def first(day_id: int) -> ResponseReturnValue:
    """Go to the first pairing that needs a person, else to the first of the day."""
    frame = day_frame(day_id)
    listed = standing.of_day(session(), frame.day)
    chosen = next((now for now in listed if now.needs_person), listed[0] if listed else None)
    if chosen is None:
        return render("bench/empty.html", "bench/empty.html", frame=frame)
    return redirect(url_for("bench.show", pairing_id=chosen.pairing.id))


def _show(pairing_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    opened = session()
    now = standing.of_pairing(opened, pairing_id)
    frame = day_frame(now.pairing.day_id)
    listed = standing.of_day(opened, frame.day)
    needing = [one.pairing.id for one in listed if one.needs_person]
    ids = [one.pairing.id for one in listed]
    at = ids.index(pairing_id)
    facts = facts_of(now.sound)
    names = (
        facts.track_names
        if len(facts.track_names) == facts.channels
        else tuple(f"channel {n + 1}" for n in range(facts.channels))
    )
    scene, take = told_slate([now.sound, now.picture])
    return render(
        "bench/page.html",
        "bench/_bench.html",
        status=status,
        frame=frame,
        now=now,
        picture=facts_of(now.picture),
        sound=facts,
        tracks=names,
        slate=" / ".join(part for part in (scene, f"take {take}" if take else "") if part) or now.picture.name,
        plot=trace_plot(now, width=742, height=262, left=54, pad=30),
        state=bench_state(now),
        labels=[label_at(now, at_s, frame.clock) for at_s in window_times(now)],
        history=pairings.history(opened, pairing_id),
        before=ids[at - 1] if at > 0 else None,
        after=ids[at + 1] if at + 1 < len(ids) else None,
        needing=len(needing),
        place_in_need=needing.index(pairing_id) + 1 if pairing_id in needing else None,
        problem=problem,
        said=said,
    )


@bp.get("/bench/<int:pairing_id>")
def show(pairing_id: int) -> ResponseReturnValue:
    """Show one pairing."""
    return _show(pairing_id)


def _version() -> int:
    text = request.form.get("version", "")
    if not text.isdecimal():
        raise RefusedError("The page is out of date. Load it again.")
    return int(text)


def _number(name: str, unit: str) -> Fraction:
    text = request.form.get(name, "").strip().replace("\N{MINUS SIGN}", "-").replace(",", ".") or "0"
    try:
        return Fraction(text)
    except (ValueError, ZeroDivisionError):
        raise RefusedError(f"{text!r} is not a number of {unit}. Write it like -1.25.") from None


@bp.post("/bench/<int:pairing_id>/<what>")
def change(pairing_id: int, what: str) -> ResponseReturnValue:
    """Do one thing to the pairing, or say why not and show it as it is."""
    opened, own = session(), settings()
    said = ""
    try:
        version = _version()
        if what == "proposal":
            correct.take_proposal(opened, own, pairing_id, version=version)
            said = "The proposal is taken."
        elif what == "slip":
            correct.set_own(opened, own, pairing_id, version=version, slip=_slipped(pairing_id))
        elif what == "own":
            now = standing.of_pairing(opened, pairing_id)
            correct.set_own(
                opened, own, pairing_id, version=version, slip=_number("slip_frames", "frames") / now.fps,
                ppm=_number("ppm", "ppm"),
            )  # fmt: skip
            said = "Your slip and rate are set."
        elif what == "undo":
            said = correct.undo(opened, own, pairing_id, version=version).capitalize() + "."
        elif what == "check":
            correct.check(opened, own, pairing_id, version=version)
            said = "Marked as checked."
        elif what == "aside":
            correct.set_aside(opened, own, pairing_id, version=version, reason=request.form.get("reason", ""))
            said = "Set aside."
        elif what == "measure":
            ask_measure(opened, pairing_id)
            said = "Measuring it again; the page follows."
        else:
            raise RefusedError("That cannot be done here.")
        opened.commit()
    except VeskError as error:
        opened.rollback()
        return _show(pairing_id, status=409 if isinstance(error, StaleError) else 422, problem=str(error))
    return _show(pairing_id, said=said)


def _slipped(pairing_id: int) -> Fraction:
    """Return the slip after moving by frames, tenths of a frame, samples, and what was dragged."""
    now = standing.of_pairing(session(), pairing_id)
    rate = facts_of(now.sound).sample_rate
    moved = _number("frames", "frames") / now.fps + _number("tenths", "tenths of a frame") / now.fps / 10
    moved += _number("samples", "samples") / rate + _number("seconds", "seconds")
    return now.as_corrected.slip + moved
