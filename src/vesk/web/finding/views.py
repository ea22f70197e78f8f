"""Search over all days, from a field on every page."""

from __future__ import annotations

from flask import Blueprint, request
from flask.typing import ResponseReturnValue

from vesk.store import finding
from vesk.web.shared import render, session

bp = Blueprint("finding", __name__, template_folder="templates")


@bp.get("/find")
def find() -> ResponseReturnValue:
    """Show what of all days is what was typed."""
    sought = " ".join(request.args.get("words", "")[: finding.LONGEST].split())
    found, count = finding.find(session(), sought)
    return render("finding/page.html", "finding/_found.html", sought=sought, found=found, count=count)
