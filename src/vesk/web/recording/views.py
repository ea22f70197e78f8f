"""One recording: everything known of it, its channels, its pictures, its claps."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, redirect, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import displays, merging, showing, sync_points
from vesk.actions.facts import facts_of
from vesk.actions.locating import located
from vesk.actions.overview import Overview
from vesk.core.day.displays import tell
from vesk.core.errors import RefusedError
from vesk.core.kinds import CLAP, PointOrigin, SyncPointKind
from vesk.core.timecode import FrameRate, Timecode
from vesk.dailies.searching import why_alone
from vesk.jobs.tasks import ask_solved, pair_again
from vesk.store import days, recordings, seen_labels
from vesk.store import sync_points as points
from vesk.store.tables import Recording, SyncPointRow
from vesk.web.recording.waveform import HEIGHT, WIDTH, waveforms
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint(
    "recording", __name__, template_folder="templates", static_folder="static", static_url_path="/static/recording"
)


@dataclass(frozen=True, slots=True)
class Clap:
    """A clap seen, with the frames to choose from: the first on which it is closed."""

    row: SyncPointRow
    frames: tuple[int, ...]
    heard_s: float | None


def _claps(row: Recording, found: list[SyncPointRow]) -> list[Clap]:
    last = ((row.facts.frames if row.facts else None) or 1) - 1
    claps = []
    for one in found:
        if one.how != points.SEEN or one.frame is None or one.kind != CLAP or one.origin != PointOrigin.FOUND:
            continue
        first = max(0, min((one.proposed_frame or one.frame) - showing.SHOWN_AROUND, last))
        frames = tuple(range(first, min(last, first + 2 * showing.SHOWN_AROUND) + 1))
        claps.append(Clap(one, frames, None if one.heard_us is None else one.heard_us / 1e6))
    return claps


def _show(recording_id: int, *, status: int = 200, problem: str = "", said: str = "") -> ResponseReturnValue:
    opened = session()
    row = recordings.get(opened, recording_id)
    frame = day_frame(row.day_id)
    found = points.of_recordings(opened, [recording_id]).get(recording_id, [])
    source = days.get_source(opened, row.source_id) if row.source_id else None
    usable = row.state == "ready"
    facts = facts_of(row) if row.facts else None
    view = Overview(opened, frame.day)
    paired = [now for now in view.statuses if recording_id in {now.picture.id, now.sound.id}]
    return render(
        "recording/page.html", "recording/_recording.html", status=status, frame=frame, row=row, facts=facts,
        why_alone=why_alone(row.unpaired, row.searched),
        source=source, problem=problem, said=said, paired=paired,
        members=recordings.members_of(opened, row),
        whole=recordings.get(opened, row.member_of) if row.member_of else None,
        known=view.known.recordings.get(str(recording_id)),
        drawn=waveforms(located(session(), settings(), frame.day, row)) if usable else [],
        wave=(WIDTH, HEIGHT),
        strip=showing.contact_frames(facts.frames) if usable and facts and facts.frames else [],
        listed=sorted(
            (one for one in found if one.kind != CLAP or one.how == points.HEARD or one.origin == PointOrigin.PERSON),
            key=lambda one: (one.frame / float(facts.fps or 25) if one.frame and facts else (one.heard_us or 0) / 1e6),
        ),
        undoable=points.changed(opened, [one.id for one in found]), sync_point_kinds=list(SyncPointKind),
        claps=_claps(row, found),
        beside=recordings.neighbours(opened, row), **_displays(view, row),
    )  # fmt: skip


def _displays(view: Overview, row: Recording) -> dict[str, Any]:
    """Return the labels that were read in a recording, as text, and what the displays say that it filmed."""
    every = seen_labels.of_day(session(), view.day.id)
    labels = [one for one in every if one.recording_id == row.id]
    names = {one.display for one in labels}
    facts = row.facts
    rate = FrameRate(facts.timecode_rate or facts.fps, facts.drop) if labels and facts and facts.fps else None
    return {
        "labels": labels, "read": [(one, str(Timecode.at(one.label, rate))) for one in labels] if rate else [],
        "displays": [one for one in tell(displays.readings(view, every)) if one.name in names] if labels else [],
    }  # fmt: skip


@bp.post("/recordings/<int:recording_id>/labels")
def put_label(recording_id: int) -> ResponseReturnValue:
    """Keep a label that was read off a display in a frame."""

    def work() -> str:
        made = displays.put(
            session(), settings(), recording_id, frame=form.whole("frame"), label=form.text("label"),
            display=form.text("display"),
        )  # fmt: skip
        return f"{made.display} on frame {made.frame} is kept."

    status, problem, said = form.act(work)
    return _show(recording_id, status=status, problem=problem, said=said)


@bp.post("/recordings/<int:recording_id>/labels/<int:label_id>/away")
def drop_label(recording_id: int, label_id: int) -> ResponseReturnValue:
    """Take a label away that was read."""

    def work() -> str:
        displays.take_away(session(), settings(), recording_id, label_id)
        return "Taken away."

    status, problem, said = form.act(work)
    return _show(recording_id, status=status, problem=problem, said=said)


@bp.get("/recordings/<int:recording_id>")
def show(recording_id: int) -> ResponseReturnValue:
    """Show a recording."""
    return _show(recording_id)


@bp.post("/recordings/<int:recording_id>/apart")
def apart(recording_id: int) -> ResponseReturnValue:
    """Take a run or a set apart."""
    day_id = recordings.get(session(), recording_id).day_id

    def work() -> str:
        merging.take_apart(session(), settings(), recording_id, version=form.version())
        pair_again(session(), days.get_day(session(), day_id))
        return ""

    status, problem, _ = form.act(work)
    if problem:
        return _show(recording_id, status=status, problem=problem)
    return redirect(url_for("intake.show", day_id=day_id), 303)


@bp.post("/recordings/<int:recording_id>/sync-points")
def put_sync_point(recording_id: int) -> ResponseReturnValue:
    """Put a sync point on a recording; from the bench it goes back there."""

    def work() -> str:
        point = sync_points.make(
            session(), settings(), recording_id, at=form.text("at"), name=form.text("name"),
            kind=form.text("kind") or SyncPointKind.OTHER,
        )  # fmt: skip
        ask_solved(session(), recordings.get(session(), recording_id).day_id)
        return f"{point.name or point.kind} is on {recordings.get(session(), recording_id).name}."

    status, problem, said = form.act(work)
    if form.text("back") and not problem:
        return redirect(url_for("bench.show", pairing_id=form.whole("back")), 303)
    return _show(recording_id, status=status, problem=problem, said=said)


@bp.post("/sync-points/<int:sync_point_id>/<what>")
def change_sync_point(sync_point_id: int, what: str) -> ResponseReturnValue:
    """Move or rename a sync point, take it away, or undo what was last done to it."""
    recording_id = points.get(session(), sync_point_id).recording_id

    def work() -> str:
        version = form.version()
        if what == "change":
            sync_points.change(
                session(), settings(), sync_point_id, version=version, at=form.text("at"), name=form.text("name"),
                kind=form.text("kind"),
            )  # fmt: skip
        elif what == "remove":
            sync_points.remove(session(), settings(), sync_point_id, version=version)
        elif what == "undo":
            sync_points.undo(session(), settings(), sync_point_id, version=version)
        else:
            raise RefusedError("That cannot be done here.")
        ask_solved(session(), recordings.get(session(), recording_id).day_id)
        return {"change": "Set.", "remove": "Taken away; Undo brings it back.", "undo": "Undone."}[what]

    status, problem, said = form.act(work)
    return _show(recording_id, status=status, problem=problem, said=said)


@bp.post("/sync-points/<int:sync_point_id>")
def decide(sync_point_id: int) -> ResponseReturnValue:
    """Confirm the frame on which a clap is first seen closed, or that there is none."""
    recording_id = points.get(session(), sync_point_id).recording_id

    def work() -> str:
        frame = None if form.text("frame") == "none" else form.whole("frame")
        sync_points.decide(session(), settings(), sync_point_id, version=form.version(), frame=frame)
        return "No clap there." if frame is None else f"Closed on frame {frame}: confirmed."

    status, problem, said = form.act(work)
    return _show(recording_id, status=status, problem=problem, said=said)
