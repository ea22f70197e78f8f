"""The journal: everything done, by whom, when."""

from __future__ import annotations

from flask import Blueprint
from flask.typing import ResponseReturnValue

from vesk.store import journal, pairings
from vesk.web.shared import render, session
from vesk.web.shared.page import day_frame

bp = Blueprint("journal", __name__, template_folder="templates")


@bp.get("/days/<int:day_id>/journal")
def show(day_id: int) -> ResponseReturnValue:
    """Show the journal."""
    return render(
        "journal/page.html",
        "journal/_journal.html",
        frame=day_frame(day_id),
        lines=journal.of_day(session(), day_id),
        standing=pairings.acts_standing(session(), day_id),
    )
