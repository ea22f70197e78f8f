"""The bench: one pairing looked at, listened to, measured and corrected."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

from flask import Blueprint, redirect, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import channels, correct, hearing, joining, scoping, tolerance
from vesk.actions.facts import facts_of
from vesk.actions.intake import told_slate
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.actions.solving import ears_of
from vesk.core.conform.retiming import meaning
from vesk.core.errors import RefusedError
from vesk.core.kinds import Kind
from vesk.core.tolerance import what_it_means
from vesk.jobs.tasks import ask_measure
from vesk.store import days, pairings
from vesk.web.bench.state import bench_state, label_at, parts_of, window_times
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame
from vesk.web.shared.trace_plot import trace_plot

bp = Blueprint("bench", __name__, template_folder="templates", static_folder="static", static_url_path="/static/bench")


@bp.get("/days/<int:day_id>/bench")
def first(day_id: int) -> ResponseReturnValue:
    """Go to the first pairing that needs a person, else to the first of the day."""
    frame = day_frame(day_id)
    listed = Overview(session(), frame.day).statuses
    chosen = next((now for now in listed if now.needs_person), listed[0] if listed else None)
    if chosen is None:
        return render("bench/empty.html", "bench/empty.html", frame=frame)
    return redirect(url_for("bench.show", pairing_id=chosen.pairing.id))


def _show(pairing_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    opened = session()
    frame = day_frame(pairings.get(opened, pairing_id).day_id)
    view = Overview(opened, frame.day)
    listed, now = view.statuses, view.status_of(pairing_id)
    needing = [one.pairing.id for one in listed if one.needs_person]
    ids = [one.pairing.id for one in listed]
    at = ids.index(pairing_id) if pairing_id in ids else None
    facts = facts_of(now.sound)
    names = (
        facts.track_names
        if len(facts.track_names) == facts.channels
        else tuple(f"channel {n + 1}" for n in range(facts.channels))
    )
    scene, take = told_slate(now.telling)
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
        plot=trace_plot(now.judged, width=742, height=262, left=54, pad=30),
        state=bench_state(now),
        labels=[label_at(now, at_s, frame.clock) for at_s in window_times(now)],
        rivals=view.rivals_of(pairing_id),
        history=pairings.history(opened, pairing_id),
        parts=parts_of(now),
        runs=[
            (word, row, count)
            for word, row in (("picture", now.picture), ("sound", now.sound))
            if (count := sum(row.id in {one.picture.id, one.sound.id} for one in listed)) > 1
        ],
        means=meaning(now.as_corrected, now.fps),
        own_ears=[hearing.told([row]) for row in (now.picture, now.sound) if ears_of(row)],
        lets_pass=what_it_means(now.tolerance, now.fps),
        before=ids[at - 1] if at else None,
        after=ids[at + 1] if at is not None and at + 1 < len(ids) else None,
        needing=len(needing),
        place_in_need=needing.index(pairing_id) + 1 if pairing_id in needing else None,
        problem=problem,
        said=said,
    )


@bp.get("/bench/<int:pairing_id>")
def show(pairing_id: int) -> ResponseReturnValue:
    """Show one pairing."""
    return _show(pairing_id)


@bp.post("/bench/<int:pairing_id>/<what>")
def change(pairing_id: int, what: str) -> ResponseReturnValue:
    """Do one thing to the pairing, or say why not and show it as it is."""
    status, problem, said = form.act(lambda: _act(pairing_id, what))
    return _show(pairing_id, status=status, problem=problem, said=said)


def _act(pairing_id: int, what: str) -> str:
    if what not in _ACTS:
        raise RefusedError("That cannot be done here.")
    return _ACTS[what](pairing_id, form.version())


def _proposal(pairing_id: int, version: int) -> str:
    correct.take_proposal(session(), settings(), pairing_id, version=version)
    return "The proposal is taken."


def _mend(pairing_id: int, version: int) -> str:
    correct.mend_steps(session(), settings(), pairing_id, version=version)
    return "Mended as a jump; undo leaves it as somebody who moved."


def _slip(pairing_id: int, version: int) -> str:
    correct.set_own(session(), settings(), pairing_id, version=version, slip=_slipped)
    return ""


def _own(pairing_id: int, version: int) -> str:
    frames, ppm = form.number("slip_frames", "frames"), form.number("ppm", "ppm")
    retimed = form.word("retimed", Kind) if form.text("retimed") else None
    if form.text("for", "take") != "take":
        return _for_run(pairing_id, version, frames, ppm, retimed or Kind.SOUND)
    correct.set_own(
        session(), settings(), pairing_id, version=version, slip=lambda now: frames / now.fps, ppm=ppm, retimed=retimed
    )
    return "Your slip and rate are set."


def _for_run(pairing_id: int, version: int, frames: Fraction, ppm: Fraction, retimed: Kind) -> str:
    """Set slip and rate for all takes of one of the two recordings."""
    row = pairings.get_for_change(session(), pairing_id, version)
    view = Overview(session(), days.get_day(session(), row.day_id))
    now = view.status_of(pairing_id)
    of = {"picture": now.picture, "sound": now.sound}.get(form.text("for"))
    if of is None:
        raise RefusedError("Choose what this is for: the take, or all takes of one of its recordings.")
    scoped = scoping.run_scope(view, of, now, slip=frames / now.fps, ppm=ppm, retimed=retimed)
    if pairing_id not in {one.pairing.id for one in scoped.touched}:
        raise RefusedError("This take has a correction or a check of its own: undo that first, or set it for the take.")
    made = scoping.take_scope(session(), settings(), view, scoped)
    return f"Set for {made.count} takes of {of.name}, at once; it is undone on the Day page."


def _tolerance(pairing_id: int, version: int) -> str:
    now = Overview(session(), days.get_day(session(), pairings.get(session(), pairing_id).day_id)).status_of(pairing_id)
    return tolerance.set_of_take(
        session(), settings(), pairing_id, version=version, text=form.text("tolerance"), now=now
    )


def _hear(pairing_id: int, version: int) -> str:
    row = pairings.get_for_change(session(), pairing_id, version)
    view = Overview(session(), days.get_day(session(), row.day_id))
    about = hearing.of_takes(view, {pairing_id}, form.word("whose", Kind), form.ears())
    return hearing.say(session(), settings(), row.day_id, about)


def _undo(pairing_id: int, version: int) -> str:
    return correct.undo(session(), settings(), pairing_id, version=version).capitalize() + "."


def _check(pairing_id: int, version: int) -> str:
    correct.check(session(), settings(), pairing_id, version=version)
    return "Marked as checked."


def _aside(pairing_id: int, version: int) -> str:
    correct.set_aside(session(), settings(), pairing_id, version=version, reason=form.text("reason"))
    return "Set aside."


def _prefer(pairing_id: int, version: int) -> str:
    others = joining.prefer(session(), settings(), pairing_id, version=version)
    return f"This is the one; set aside: {', '.join(others)}." if others else "This is the one."


def _unjoin(pairing_id: int, version: int) -> str:
    correct.set_aside(session(), settings(), pairing_id, version=version, reason=form.text("reason") or "not these two")
    return "Not these two: set aside. Undo brings it back."


def _measure(pairing_id: int, _version: int) -> str:
    ask_measure(session(), pairing_id)
    return "Measuring it again; the page follows."


def _channels(pairing_id: int, version: int) -> str:
    now = Overview(session(), days.get_day(session(), pairings.get(session(), pairing_id).day_id)).status_of(pairing_id)
    return channels.set_of_take(session(), settings(), pairing_id, version=version, said=form.text("channels"), now=now)


_ACTS: dict[str, Callable[[int, int], str]] = {
    "proposal": _proposal, "mend": _mend, "slip": _slip, "own": _own, "undo": _undo, "check": _check, "aside": _aside,
    "measure": _measure, "prefer": _prefer, "unjoin": _unjoin, "tolerance": _tolerance, "channels": _channels,
    "hear": _hear,
}  # fmt: skip


def _slipped(now: PairingStatus) -> Fraction:
    """Return the slip after moving by frames, tenths of a frame, samples, and what was dragged."""
    rate = facts_of(now.sound).sample_rate
    moved = form.number("frames", "frames") / now.fps + form.number("tenths", "tenths of a frame") / now.fps / 10
    moved += form.number("samples", "samples") / rate + form.number("seconds", "seconds")
    return now.as_corrected.slip + moved
