"""Signing in and out, and the gate that nothing passes without: used where Vesk is served beyond this machine."""

from __future__ import annotations

import re
from urllib.parse import quote

from flask import Blueprint, g, make_response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from vesk.actions import accounts
from vesk.core import signing_in
from vesk.core.errors import NotAllowedError, VeskError
from vesk.core.kinds import Role
from vesk.web.shared import form, session, settings

bp = Blueprint("signing_in", __name__, template_folder="templates")
COOKIE = "vesk-signed-in"
_OPEN = {"signing_in.show", "signing_in.sign_in", "static"}  # what answers without an account
_HARMLESS = {"signing_in.sign_out", "common.leave"}  # what may be sent by who may only look
_WITHIN = re.compile(r"/(?!/)[\w/?=&.:%+-]*", re.ASCII)


def gate() -> ResponseReturnValue | None:
    """Let nobody by without an account, over anything but TLS, or with more than the account allows.

    Raises
    ------
    NotAllowedError
        If somebody who may look would change something.
    """
    if not settings().accounts:
        return None
    if request.scheme != "https":
        return make_response("Vesk answers here over TLS alone: ask for https.", 403)
    if request.endpoint in _OPEN:
        return None
    account = accounts.who_is(session(), request.cookies.get(COOKIE, ""))
    if account is None:
        if request.method in {"GET", "HEAD"} and "HX-Request" not in request.headers:
            there = request.full_path.rstrip("?") if request.accept_mimetypes.accept_html else "/"
            return redirect(url_for("signing_in.show", to=there if _WITHIN.fullmatch(there) else "/"), 303)
        return make_response("Sign in first.", 401)
    g.account = account
    if account.role == Role.LOOK and request.method not in {"GET", "HEAD"} and request.endpoint not in _HARMLESS:
        raise NotAllowedError(f"{account.name} may look here, and change nothing. Nothing was changed.")
    return None


@bp.get("/sign-in")
def show() -> ResponseReturnValue:
    """Show where one signs in."""
    return render_template("signing_in/page.html", to=request.args.get("to", "/"), name="", problem="")


@bp.post("/sign-in")
def sign_in() -> ResponseReturnValue:
    """Sign somebody in, or say that it cannot be."""
    name, to = form.text("name"), form.text("to")
    try:
        token = accounts.sign_in(session(), name, form.text("password"), address=request.remote_addr or "")
        session().commit()
    except VeskError as error:
        session().rollback()
        page = render_template("signing_in/page.html", to=to, name=name, problem=str(error))
        return page, form.status_of(error)
    response = redirect(to if _WITHIN.fullmatch(to) else "/", 303)
    response.set_cookie(
        COOKIE, quote(token), max_age=int(signing_in.LASTS.total_seconds()), httponly=True, secure=True,
        samesite="Strict",
    )  # fmt: skip
    return response


@bp.post("/sign-out")
def sign_out() -> ResponseReturnValue:
    """Sign out in this browser."""
    accounts.sign_out(session(), request.cookies.get(COOKIE, ""))
    session().commit()
    response = redirect(url_for("signing_in.show"), 303)
    response.delete_cookie(COOKIE, secure=True, httponly=True, samesite="Strict")
    return response
