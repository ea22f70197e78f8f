"""What every page shares: the session of a request, settings, rendering for htmx."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from urllib.parse import unquote

from flask import current_app, g, has_request_context, make_response, render_template, request
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from vesk.settings import LONGEST_NAME, VESK, Settings
from vesk.store.session import open_session

WHO = "vesk-who"  # the cookie that keeps who a person is


def settings() -> Settings:
    """Return the application's settings; the person is who signed in, else who said so in this browser."""
    value: Settings = current_app.config["VESK"]
    if has_request_context() and "account" in g:
        return replace(value, person=g.account.name)
    said = unquote(request.cookies.get(WHO, "")) if has_request_context() else ""
    said = " ".join(said.split())[:LONGEST_NAME]
    # Nobody signs as Vesk itself, and nothing unprintable reaches the journal.
    usable = said and said.isprintable() and said.casefold() != VESK.casefold()
    return replace(value, person=said) if usable else value


def session() -> Session:
    """Return the request's session, opened at first use."""
    if "session" not in g:
        g.session = open_session(current_app.config["VESK"].sqlalchemy_url, quick=True)
    opened: Session = g.session
    return opened


def roll_back() -> None:
    """Let go of what the request holds in the database, if it holds anything."""
    opened = g.pop("session", None)
    if opened is not None:
        with suppress(SQLAlchemyError):
            opened.close()


def close_session(_error: BaseException | None = None) -> None:
    """Close the request's session; what was not committed is gone."""
    roll_back()


def wants_part() -> bool:
    """Say whether htmx asks for a part of the page."""
    return request.headers.get("HX-Request-Type") == "partial"


def render(page: str, partial: str, *, status: int = 200, **context: object) -> ResponseReturnValue:
    """Render `partial` when htmx asks for a part of the page, else the whole `page`."""
    response = make_response(render_template(partial if wants_part() else page, **context), status)
    response.vary.add("HX-Request-Type")
    return response
