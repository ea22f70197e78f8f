"""The page where the patterns of file names are edited."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from flask import Blueprint, render_template
from flask.typing import ResponseReturnValue

from vesk.actions import naming
from vesk.actions.known import patterns_of
from vesk.core.errors import NamingError
from vesk.core.intake.naming import DEFAULT_PATTERNS, TOKENS, compiled, read_name
from vesk.jobs.tasks import pair_again
from vesk.store import days, recordings
from vesk.store.tables import Day
from vesk.web.shared import form, render, session, settings
from vesk.web.shared.page import day_frame

bp = Blueprint("naming", __name__, template_folder="templates")

MEANING = {
    "roll": "letters and digits, like A006", "clip": "3 to 6 digits", "scene": "like 31A, WT1", "slate": "like 31A",
    "take": "up to 3 digits", "part": "one small letter", "track": "a name or up to 2 digits",
    "any": "anything; not kept",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Caught:
    """One file name: what is caught, and by which pattern (empty: by none)."""

    path: str
    tokens: dict[str, str]
    pattern: str


def _preview(day: Day, patterns: list[str]) -> tuple[list[Caught], str]:
    """Return what patterns catch of the day's names, those they do not read first; and what is wrong with one."""
    good, problem = [], ""
    for pattern in patterns:
        try:
            compiled(pattern)
            good.append(pattern)
        except NamingError as error:
            problem = problem or str(error)
    caught = []
    for row in recordings.files_of_day(session(), day.id):
        stem = Path(row.name).stem
        by = next((pattern for pattern in good if compiled(pattern).fullmatch(stem)), "")
        caught.append(Caught(row.path, read_name(stem, good), by))
    return sorted(caught, key=lambda one: (bool(one.pattern), one.path)), problem


def _typed() -> list[str]:
    return [line.strip() for line in form.text("patterns").splitlines() if line.strip()]


def _show(
    day_id: int, *, status: int = 200, problem: str = "", said: str = "", typed: list[str] | None = None
) -> ResponseReturnValue:
    frame = day_frame(day_id)
    patterns = list(patterns_of(frame.day)) if typed is None else typed
    caught, wrong = _preview(frame.day, patterns)
    return render(
        "naming/page.html", "naming/_naming.html", status=status, frame=frame, patterns=patterns, caught=caught,
        wrong=wrong, tokens={name: MEANING[name] for name in TOKENS}, shipped=tuple(patterns) == DEFAULT_PATTERNS,
        problem=problem, said=said,
    )  # fmt: skip


@bp.get("/days/<int:day_id>/names")
def show(day_id: int) -> ResponseReturnValue:
    """Show the patterns and what they catch."""
    return _show(day_id)


@bp.post("/days/<int:day_id>/names/preview")
def preview(day_id: int) -> ResponseReturnValue:
    """Show what the patterns as typed would catch; nothing is saved."""
    caught, wrong = _preview(days.get_day(session(), day_id), _typed())
    return render_template("naming/_caught.html", caught=caught, wrong=wrong)


@bp.post("/days/<int:day_id>/names")
def save(day_id: int) -> ResponseReturnValue:
    """Keep the patterns as typed, or those that ship."""
    days.get_day(session(), day_id)
    typed = [] if form.text("do") == "shipped" else _typed()

    def work() -> str:
        naming.set_patterns(session(), settings(), day_id, typed, version=form.version())
        pair_again(session(), days.get_day(session(), day_id))
        return "Saved: names are read by these from now on."

    status, problem, said = form.act(work)
    # On stale data what is there now is shown; what was only mistyped is given back.
    return _show(day_id, status=status, problem=problem, said=said, typed=typed if status == 422 else None)
