"""Watching a moment: its page, its state, what is heard of it, and what is decided while watching."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from fractions import Fraction

import numpy as np
from flask import Blueprint, Response, jsonify, redirect, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import correct, light_copies, moments, sync_points
from vesk.actions import watched as watching_action
from vesk.actions.facts import facts_of
from vesk.actions.moments import Moment
from vesk.actions.overview import Overview
from vesk.actions.pairing_status import PairingStatus
from vesk.core.errors import NumberError, RefusedError
from vesk.core.figures import read_number, read_whole
from vesk.core.kinds import PICTURE, Work, WorkState
from vesk.core.moment.rough_cut import Edge, RoughCut, Takes
from vesk.dailies.playing import Playable, play
from vesk.jobs.queue import URGENT
from vesk.jobs.tasks import ask_light, ask_listen
from vesk.media import answering
from vesk.store import days, pairings, progress, recordings, watched
from vesk.store import sync_points as points
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame
from vesk.web.watching.state import cuts_state, moment_state, noted_at

bp = Blueprint(
    "watching", __name__, template_folder="templates", static_folder="static", static_url_path="/static/watching"
)
HERE = "/days/<int:day_id>/watching/<int:about>"
MOST_COUNT, RATES, MOST_SPEED = 1 << 19, range(8_000, 192_001), 2.0
MOST_AT_US = 1 << 44
TRY_AGAIN = timedelta(minutes=10)  # after which a light copy that failed or was stopped is asked for once more


@bp.get("/days/<int:day_id>/watching")
def at_time(day_id: int) -> ResponseReturnValue:
    """Go to the moment at a second of the day, else to the first that needs a person."""
    view = Overview(session(), days.get_day(session(), day_id))
    asked = request.args.get("at", "")[:40]
    if asked:
        try:
            second = read_number(asked, least=-1_000_000, most=1_000_000)
        except NumberError as error:
            raise RefusedError(f"at: {error}.") from None
        return redirect(url_for("watching.show", day_id=day_id, about=moments.at_time(view, second).id, at=asked))
    chosen = next((now for now in view.statuses if now.needs_person), next(iter(view.statuses), None))
    if chosen is not None:
        return redirect(url_for("watching.show", day_id=day_id, about=chosen.picture.id))
    if not view.placed:
        return render("watching/empty.html", "watching/empty.html", frame=day_frame(day_id))
    return redirect(url_for("watching.show", day_id=day_id, about=moments.at_time(view, Fraction(0)).id))


@bp.get(HERE)
def show(day_id: int, about: int) -> ResponseReturnValue:
    """Show the moment of a recording."""
    frame = day_frame(day_id)
    view = Overview(session(), frame.day)
    moment = moments.moment_of(view, about)
    state = _state(moment)
    order = [row.id for row in view.recordings if row.kind == PICTURE and row.state == recordings.READY]
    starts = {number: view.placed[number].start for number in order if number in view.placed}
    order.sort(key=lambda number: (number not in starts, starts.get(number, Fraction(0))))
    place = order.index(about) if about in order else None
    return render(
        "watching/page.html", "watching/page.html", frame=frame, moment=moment, state=state,
        before=order[place - 1] if place else None,
        after=order[place + 1] if place is not None and place + 1 < len(order) else None,
    )  # fmt: skip


@bp.get(f"{HERE}/state")
def state(day_id: int, about: int) -> ResponseReturnValue:
    """Give what the page draws and plays from, as it stands now."""
    return jsonify(_state(_moment(day_id, about)))


def _moment(day_id: int, about: int) -> Moment:
    return moments.moment_of(Overview(session(), days.get_day(session(), day_id)), about)


def _state(moment: Moment) -> dict[str, object]:
    """Return the state, and have the light copies made that it lacks."""
    opened = session()
    ids = [strip.row.id for strip in moment.strips]
    works = {number: row for number in ids if (row := progress.find(opened, Work.LIGHT, number)) is not None}
    missing = [
        strip.row for strip in moment.of(PICTURE)
        if light_copies.can_be_made(strip.row) and not light_copies.is_made(settings(), strip.row)
    ]  # fmt: skip
    lately = datetime.now(UTC) - TRY_AGAIN
    ended = {
        number for number, work in works.items()
        if work.state in {WorkState.FAILED, WorkState.STOPPED} and work.changed_at > lately
    }  # fmt: skip
    for wanted in missing:
        if settings().light_copies and wanted.id not in ended:
            ask_light(opened, wanted, priority=URGENT)
    if missing:
        opened.commit()
    kept = watching_action.range_of(moment, watched.ranges_of_day(opened, moment.day.id))
    return moment_state(moment, settings(), points.of_recordings(opened, ids), works) | {
        "notes": [
            {"id": one.id, "at": float(at), "text": one.text, "by": one.made_by}
            for one in watched.notes(opened, ids) if (at := noted_at(moment, one)) is not None
        ],
        "range": [float(at) for at in kept] if kept else None,
        "cuts": cuts_state(watched.rough_cut(opened, moment.about.id)),
    }  # fmt: skip


@bp.get(f"{HERE}/sound")
def sound(day_id: int, about: int) -> ResponseReturnValue:
    """Give what is heard, int16: ``begin_us``, ``first``, ``count``, ``rate``, ``speed``; of whom, and how."""
    moment = _moment(day_id, about)
    begin = Fraction(_whole("begin_us", -MOST_AT_US, MOST_AT_US), 1_000_000)
    first, count = _whole("first", 0, MOST_AT_US), _whole("count", 1, MOST_COUNT)
    rate, speed = _whole("rate", RATES[0], RATES[-1]), _speed()
    way = request.args.get("way", "alone")
    corrected = request.args.get("laid") != "recorded"
    channel = request.args.get("channel", "")[:9]
    opened = session()
    chosen = moments.playable(
        opened, settings(), moment, request.args.get("tag", "")[:60],
        None if channel in {"", "all"} else _whole("channel", 0, 1 << 16), corrected=corrected,
    )  # fmt: skip
    scratch = _scratch(moment, request.args.get("camera", "")[:60]) if way != "alone" else []
    _ensure([*chosen, *scratch], moment)
    answering.look(*{path for one in (*chosen, *scratch) for path in one.place.heard_from})

    def heard(what: list[Playable]) -> np.ndarray:
        return play(what, begin, first, count, rate=rate, speed=speed)

    if way == "split":
        data = np.stack([heard(scratch), heard(chosen)], axis=1)
    elif way == "sum":
        data = 0.5 * (heard(scratch) + heard(chosen))[:, None]
    else:
        data = heard(scratch if way == "scratch" else chosen)[:, None]
    body = np.clip(np.rint(data * 32767), -32768, 32767).astype("<i2").tobytes()
    response = Response(body, mimetype="application/octet-stream", headers={"X-Channels": str(data.shape[1])})
    response.cache_control.no_store = True
    return response


def _scratch(moment: Moment, tag: str) -> list[Playable]:
    strip = next((one for one in moment.of(PICTURE) if one.source.tag == tag), None)
    channel = moments.scratch_channel(strip) if strip is not None else None
    if channel is None:
        raise RefusedError(f"{tag or 'This camera'} has no sound of its own.")
    return moments.playable(session(), settings(), moment, tag, channel)


def _ensure(what: list[Playable], moment: Moment) -> None:
    """Have listened to again what the cache let go of: a movie's sound is played from there."""
    by_content = {strip.row.content: strip.row for strip in moment.strips}
    for one in what:
        facts, entry = one.place.facts, one.place.entry
        if facts.coded and not one.place.members and not entry.sound.exists():
            row = by_content.get(entry.folder.name)
            if row is not None:
                ask_listen(session(), row)
                session().commit()
            raise RefusedError(f"{one.place.path.name} is listened to first; it can be played in a moment.")


def _whole(name: str, least: int, most: int) -> int:
    try:
        return read_whole(request.args.get(name, "")[:24], least=least, most=most)
    except NumberError as error:
        raise RefusedError(f"{name}: {error}.") from None


def _speed() -> float:
    try:
        found = float(read_number(request.args.get("speed", "1")[:12], least=-2, most=2))
    except NumberError as error:
        raise RefusedError(f"speed: {error}.") from None
    if not found:
        raise RefusedError("speed: it is 0: nothing is heard.")
    return found


@bp.post(f"{HERE}/<what>")
def change(day_id: int, about: int, what: str) -> ResponseReturnValue:
    """Do one thing while watching, and give the state as it is then."""
    status, problem, said = form.act(lambda: _act(day_id, about, what))
    answer = jsonify({"problem": problem, "said": said, "state": _state(_moment(day_id, about))})
    answer.status_code = status
    return answer


def _act(day_id: int, about: int, what: str) -> str:
    if what not in _ACTS:
        raise RefusedError("That cannot be done here.")
    return _ACTS[what](day_id, about)


def _slip(_day: int, _about: int) -> str:
    """Slip a pairing by frames, tenths of a frame and samples."""
    number = form.whole("pairing")

    def slipped(now: PairingStatus) -> Fraction:
        rate = Fraction(facts_of(now.sound).sample_rate or 48_000)
        frames = form.number("frames", "frames") + form.number("tenths", "tenths of a frame") / 10
        return now.as_corrected.slip + frames / now.fps + form.number("samples", "samples") / rate

    correct.set_own(session(), settings(), number, version=form.version(), slip=slipped)
    row = pairings.get(session(), number)
    members = recordings.by_id(session(), {row.picture_id, row.sound_id})
    return f"{members[row.sound_id].name} slipped on {members[row.picture_id].name}"


def _check(_day: int, _about: int) -> str:
    correct.check(session(), settings(), form.whole("pairing"), version=form.version())
    return "marked as checked"


def _undo(_day: int, _about: int) -> str:
    return correct.undo(session(), settings(), form.whole("pairing"), version=form.version())


def _point(_day: int, _about: int) -> str:
    made = sync_points.make(
        session(), settings(), form.whole("recording"), at=form.text("at"), name=form.text("name"),
        kind=form.text("kind", "other"),
    )  # fmt: skip
    return f"sync point {made.name} put".replace("  ", " ")


def _clap(_day: int, _about: int) -> str:
    row = sync_points.decide(
        session(), settings(), form.whole("point"), version=form.version(), frame=form.whole("frame", least=1)
    )
    return f"confirmed: closed on frame {row.frame}"


def _light(day_id: int, _about: int) -> str:
    """Have a light copy made that failed or was stopped."""
    row = recordings.get(session(), form.whole("picture"))
    if row.day_id != day_id or not light_copies.can_be_made(row):
        raise RefusedError("No light copy can be made of that.")
    ask_light(session(), row, priority=URGENT)
    return f"the light copy of {row.name} is made again"


def _at() -> Fraction:
    return Fraction(form.whole("at_us", least=-MOST_AT_US, most=MOST_AT_US), 1_000_000)


def _note(day_id: int, about: int) -> str:
    watching_action.note(session(), settings(), _moment(day_id, about), at=_at(), text=form.text("text"))
    return "noted"


def _unnote(day_id: int, about: int) -> str:
    watching_action.take_note_back(session(), settings(), _moment(day_id, about), form.whole("note"))
    return "taken back"


def _range(day_id: int, about: int) -> str:
    view = Overview(session(), days.get_day(session(), day_id))
    moment = moments.moment_of(view, about)
    return watching_action.keep_range(session(), settings(), moment, view, at=_at(), end=form.text("end"))


def _whole_again(day_id: int, about: int) -> str:
    watching_action.let_range_go(session(), settings(), _moment(day_id, about))
    return "all of it is handed over"


def _change_cut(day_id: int, about: int, change: Callable[[Moment, RoughCut], RoughCut]) -> str:
    moment = _moment(day_id, about)
    watching_action.change_cut(
        session(), settings(), moment, version=form.version(), change=lambda cut: change(moment, cut)
    )
    return ""


def _cut(day_id: int, about: int) -> str:
    def taken(moment: Moment, cut: RoughCut) -> RoughCut:
        camera = form.text("camera")
        if not any(strip.source.tag == camera for strip in moment.of(PICTURE)):
            raise RefusedError(f"{camera} is none of the cameras of this moment.")
        last = watching_action.day_frame_at(moment, moment.about.duration)
        at = watching_action.day_frame_at(moment, _at())
        return replace(cut.taken(camera, at, last), sound=cut.sound or form.text("sound")[:60])

    return _change_cut(day_id, about, taken)


def _trim(day_id: int, about: int) -> str:
    index = form.whole("index", most=10_000)

    def trimmed(_moment: Moment, cut: RoughCut) -> RoughCut:
        if form.text("takes"):
            return cut.taking(index, form.word("takes", Takes))
        return cut.trimmed(index, form.word("edge", Edge), form.whole("frames", least=-100_000, most=100_000))

    return _change_cut(day_id, about, trimmed)


def _uncut(day_id: int, about: int) -> str:
    watching_action.undo_cut(session(), _moment(day_id, about), version=form.version())
    return "the last cut undone"


_ACTS: dict[str, Callable[[int, int], str]] = {
    "slip": _slip, "check": _check, "undo": _undo, "point": _point, "clap": _clap, "note": _note, "unnote": _unnote,
    "range": _range, "whole": _whole_again, "cut": _cut, "trim": _trim, "uncut": _uncut, "light": _light,
}  # fmt: skip


@bp.get(f"{HERE}/cut.<kind>")
def rough_cut(day_id: int, about: int, kind: str) -> ResponseReturnValue:
    """Give the rough cut as a timeline or an edit list that refers to the originals."""
    view = Overview(session(), days.get_day(session(), day_id))
    moment = moments.moment_of(view, about)
    row = watched.rough_cut(session(), about)
    name, data = watching_action.cut_file(view, moment, (row.cut if row else None) or RoughCut(), kind)
    response = Response(data, mimetype="application/json" if kind == "otio" else "text/plain")
    response.headers.set("Content-Disposition", "attachment", filename=name)
    return response
