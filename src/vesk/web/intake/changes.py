"""What a person changes on Intake: several recordings at once, a source's clock, oddities that are meant so."""

from __future__ import annotations

from collections.abc import Callable

from flask import request
from flask.typing import ResponseReturnValue

from vesk.actions import day_known, sources, watching
from vesk.core.errors import RefusedError, StaleError, VeskError
from vesk.jobs.tasks import pair_again
from vesk.store import days
from vesk.store.tables import Day
from vesk.web.intake.views import bp, show_day
from vesk.web.shared import session, settings

_PUT = {"scene": "scene", "take": "take", "tape": "tape", "timecode": "timecode", "clock": "clock"}


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
    """Move, put right, set aside or bring back every selected recording."""
    day = days.get_day(session(), day_id)
    form = request.form
    ids = [int(text) for text in form.getlist("recording") if text.isdecimal()]
    do = form.get("do", "")

    def work() -> str:
        opened, own = session(), settings()
        if do == "move":
            count = sources.move(opened, own, day, ids, to_tag=form.get("to", ""))
            return f"{count} moved to {form.get('to', '').strip()}."
        field, value = form.get("field", ""), form.get("value", "")
        if do == "aside":
            if not value.strip():
                raise RefusedError("Say why it is set aside: off-speed, MOS, wild, broken.")
            return f"{day_known.put_right(opened, own, day, ids, field='aside', value=value)} set aside."
        if do == "back":
            return f"{day_known.put_right(opened, own, day, ids, field='aside', value='')} brought back."
        if do == "put" and field in _PUT:
            return f"{field} of {day_known.put_right(opened, own, day, ids, field=field, value=value)} put right."
        if do == "asread" and field in _PUT:
            count = day_known.put_right(opened, own, day, ids, field=field, value=None)
            return f"{field} of {count} as read again."
        raise RefusedError("Choose what to do with the selected recordings.")

    return _do(day, work, pairs=True)


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
