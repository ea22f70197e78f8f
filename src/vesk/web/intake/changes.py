"""What a person changes on Intake: several recordings at once, a source's clock, oddities that are meant so."""

from __future__ import annotations

from collections.abc import Callable

from flask.typing import ResponseReturnValue

from vesk.actions import clocks, facts, folder_watch, merging, oddities, sources
from vesk.core.errors import RefusedError
from vesk.core.kinds import Clock, Together
from vesk.jobs.tasks import merged_again, pair_again
from vesk.store import days
from vesk.store.tables import Day
from vesk.web.intake.views import bp, show_day
from vesk.web.shared import form, session, settings

__all__ = ["bp"]  # with its routes that change something

Shown = dict[int, int]
"""What is ticked: the version of each recording, by its number."""
_PUT = ("scene", "take", "tape", "timecode", "counts at", "clock")


def _do(day: Day, work: Callable[[], str], *, pairs: bool) -> ResponseReturnValue:
    """Do one thing and pair again where clocks or sources changed; or say why not, with nothing changed."""
    day_id = day.id

    def both() -> str:
        said = work()
        if pairs:
            pair_again(session(), day)
        return said

    status, problem, said = form.act(both)
    return show_day(day_id, status=status, problem=problem, said=said)


@bp.post("/days/<int:day_id>/intake/together")
def together(day_id: int) -> ResponseReturnValue:
    """Move, put right, set aside, bring back, take together or apart every selected recording."""
    day = days.get_day(session(), day_id)
    work = _TOGETHER.get(form.text("do"))

    def refuse(_day: Day, _ids: Shown, _value: str) -> str:
        raise RefusedError("Choose what to do with the selected recordings.")

    return _do(day, lambda: (work or refuse)(day, form.versions("recording"), form.text("value")), pairs=True)


def _move(day: Day, ids: Shown, _value: str) -> str:
    to = form.text("to").strip()
    return f"{sources.move(session(), settings(), day, ids, to_tag=to)} moved to {to}."


def _put(day: Day, ids: Shown, field: str, value: str | None) -> int:
    return facts.put_right(session(), settings(), day, ids, field=field, value=value)


def _put_right(day: Day, ids: Shown, value: str) -> str:
    return f"{_field()} of {_put(day, ids, _field(), value)} put right."


def _as_read(day: Day, ids: Shown, _value: str) -> str:
    return f"{_field()} of {_put(day, ids, _field(), None)} as read again."


def _field() -> str:
    field = form.text("field")
    if field not in _PUT:
        raise RefusedError(f"Choose which fact is put right: {', '.join(_PUT)}.")
    return field


def _aside(day: Day, ids: Shown, value: str) -> str:
    if not value.strip():
        raise RefusedError("Say why it is set aside: off-speed, MOS, wild, broken.")
    return f"{_put(day, ids, 'aside', value)} set aside."


def _back(day: Day, ids: Shown, _value: str) -> str:
    return f"{_put(day, ids, 'aside', '')} brought back."


def _merge(how: Together) -> Callable[[Day, Shown, str], str]:
    def work(day: Day, ids: Shown, _value: str) -> str:
        whole = merging.merge_by_hand(session(), settings(), day, ids, how)
        merged_again(session(), day, [whole])
        return f"{whole.name} is one recording now; it is listened to and paired as such."

    return work


def _take_apart(_day: Day, ids: Shown, _value: str) -> str:
    if not ids:
        raise RefusedError("Nothing is selected: tick the recordings first.")
    names = ", ".join(
        merging.take_apart(session(), settings(), number, version=version).name for number, version in ids.items()
    )
    return f"{names} taken apart; what was decided about it comes back if it is merged again."


_TOGETHER: dict[str, Callable[[Day, Shown, str], str]] = {
    "move": _move, "put": _put_right, "asread": _as_read, "aside": _aside, "back": _back, "run": _merge(Together.RUN),
    "set": _merge(Together.SET), "apart": _take_apart,
}  # fmt: skip


@bp.post("/days/<int:day_id>/intake/watch")
def watch(day_id: int) -> ResponseReturnValue:
    """Begin or end watching the day's folder."""
    day = days.get_day(session(), day_id)
    on = form.text("on") == "1"

    def work() -> str:
        folder_watch.watch(session(), settings(), day, on=on)
        return "The folder is watched: what is copied there comes in by itself." if on else "No longer watched."

    return _do(day, work, pairs=False)


@bp.post("/sources/<int:source_id>/clock")
def clock(source_id: int) -> ResponseReturnValue:
    """Say by which clock a source is trusted; every pairing follows."""
    source = days.get_source(session(), source_id)
    day = days.get_day(session(), source.day_id)
    wanted = form.word("clock", Clock) if form.text("clock") else None

    def work() -> str:
        changed = clocks.choose_clock(session(), settings(), source_id, version=form.version(), clock=wanted)
        return f"{changed.tag} is trusted by its {wanted}." if wanted else f"Vesk chooses {changed.tag}'s clock."

    return _do(day, work, pairs=True)


@bp.post("/days/<int:day_id>/intake/oddity")
def oddity(day_id: int) -> ResponseReturnValue:
    """Say that an oddity is meant so, or take it up again."""
    day = days.get_day(session(), day_id)
    key, note = form.text("key"), form.text("note")

    def work() -> str:
        if form.text("do") == "again":
            oddities.take_up(session(), settings(), day, key)
            return "Taken up again."
        oddities.accept(session(), settings(), day, key, note)
        return "Meant so."

    return _do(day, work, pairs=False)
