"""What a person changes on Intake: several recordings at once, a source's clock, oddities that are meant so."""

from __future__ import annotations

from collections.abc import Callable

from flask import request
from flask.typing import ResponseReturnValue

from vesk.actions import day_joined, day_known, sources, watching
from vesk.core.errors import RefusedError, StaleError, VeskError
from vesk.jobs.tasks import joined_again, pair_again
from vesk.store import days
from vesk.store.tables import Day
from vesk.web.intake.views import bp, show_day
from vesk.web.shared import session, settings

_PUT = ("scene", "take", "tape", "timecode", "clock")


def _do(day: Day, work: Callable[[], str], *, pairs: bool) -> ResponseReturnValue:
    """Do one thing and pair again where clocks or sources changed; or say why not, with nothing changed."""
    day_id = day.id or 0
    try:
        said = work()
        if pairs:
            pair_again(session(), settings(), day)
        session().commit()
    except VeskError as error:
        session().rollback()
        status = 409 if isinstance(error, StaleError) else 422
        return show_day(day_id, status=status, problem=str(error))
    return show_day(day_id, said=said)


@bp.post("/days/<int:day_id>/intake/together")
def together(day_id: int) -> ResponseReturnValue:
    """Move, put right, set aside, bring back, take together or apart every selected recording."""
    day = days.get_day(session(), day_id)
    ids = [int(text) for text in request.form.getlist("recording") if text.isdecimal()]
    work = _TOGETHER.get(request.form.get("do", ""))

    def refuse(_day: Day, _ids: list[int], _value: str) -> str:
        raise RefusedError("Choose what to do with the selected recordings.")

    return _do(day, lambda: (work or refuse)(day, ids, request.form.get("value", "")), pairs=True)


def _move(day: Day, ids: list[int], _value: str) -> str:
    to = request.form.get("to", "").strip()
    return f"{sources.move(session(), settings(), day, ids, to_tag=to)} moved to {to}."


def _put(day: Day, ids: list[int], field: str, value: str | None) -> int:
    return day_known.put_right(session(), settings(), day, ids, field=field, value=value)


def _put_right(day: Day, ids: list[int], value: str) -> str:
    return f"{_field()} of {_put(day, ids, _field(), value)} put right."


def _as_read(day: Day, ids: list[int], _value: str) -> str:
    return f"{_field()} of {_put(day, ids, _field(), None)} as read again."


def _field() -> str:
    field = request.form.get("field", "")
    if field not in _PUT:
        raise RefusedError(f"Choose which fact is put right: {', '.join(_PUT)}.")
    return field


def _aside(day: Day, ids: list[int], value: str) -> str:
    if not value.strip():
        raise RefusedError("Say why it is set aside: off-speed, MOS, wild, broken.")
    return f"{_put(day, ids, 'aside', value)} set aside."


def _back(day: Day, ids: list[int], _value: str) -> str:
    return f"{_put(day, ids, 'aside', '')} brought back."


def _join(how: str) -> Callable[[Day, list[int], str], str]:
    def join(day: Day, ids: list[int], _value: str) -> str:
        whole = day_joined.join_by_hand(session(), settings(), day, ids, how)
        joined_again(session(), settings(), day, [whole])
        return f"{whole.name} is one recording now; it is listened to and paired as such."

    return join


def _part(_day: Day, ids: list[int], _value: str) -> str:
    if not ids:
        raise RefusedError("Nothing is selected: tick the recordings first.")
    names = ", ".join(day_joined.part(session(), settings(), number).name for number in ids)
    return f"{names} taken apart; what was decided about it comes back if it is joined again."


_TOGETHER: dict[str, Callable[[Day, list[int], str], str]] = {
    "move": _move, "put": _put_right, "asread": _as_read, "aside": _aside, "back": _back, "run": _join("run"),
    "set": _join("set"), "part": _part,
}  # fmt: skip


@bp.post("/days/<int:day_id>/intake/watch")
def watch(day_id: int) -> ResponseReturnValue:
    """Begin or end watching the day's folder."""
    day = days.get_day(session(), day_id)
    on = request.form.get("on") == "1"

    def work() -> str:
        watching.watch(session(), settings(), day, on=on)
        return "The folder is watched: what is copied there comes in by itself." if on else "No longer watched."

    return _do(day, work, pairs=False)


@bp.post("/sources/<int:source_id>/clock")
def clock(source_id: int) -> ResponseReturnValue:
    """Say by which clock a source is trusted; every pairing follows."""
    source = days.get_source(session(), source_id)
    day = days.get_day(session(), source.day_id)
    version, wanted = request.form.get("version", ""), request.form.get("clock", "")

    def work() -> str:
        if not version.isdecimal():
            raise RefusedError("The page is out of date. Load it again.")
        changed = day_known.choose_clock(session(), settings(), source_id, version=int(version), clock=wanted)
        return f"{changed.tag} is trusted by its {wanted}." if wanted else f"Vesk chooses {changed.tag}'s clock."

    return _do(day, work, pairs=True)


@bp.post("/days/<int:day_id>/intake/oddity")
def oddity(day_id: int) -> ResponseReturnValue:
    """Say that an oddity is meant so, or take it up again."""
    day = days.get_day(session(), day_id)
    key, note = request.form.get("key", ""), request.form.get("note", "")

    def work() -> str:
        if request.form.get("do") == "again":
            day_known.take_up(session(), settings(), day, key)
            return "Taken up again."
        day_known.accept(session(), settings(), day, key, note)
        return "Meant so."

    return _do(day, work, pairs=False)
