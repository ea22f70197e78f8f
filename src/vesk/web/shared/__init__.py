"""What every page shares: the session of a request, settings, rendering for htmx."""

from __future__ import annotations

from flask import current_app, g, make_response, render_template, request
from flask.typing import ResponseReturnValue
from sqlmodel import Session

from vesk.settings import Settings
from vesk.store.session import open_session


def settings() -> Settings:
    """Return the application's settings."""
    value: Settings = current_app.config["VESK"]
    return value


def session() -> Session:
    """Return the request's session, opened at first use."""
    if "session" not in g:
        g.session = open_session(settings().sqlalchemy_url)
    opened: Session = g.session
    return opened


def close_session(_error: BaseException | None = None) -> None:
    """Close the request's session; what was not committed is gone."""
    opened = g.pop("session", None)
    if opened is not None:
        opened.close()


def wants_part() -> bool:
    """Say whether htmx asks for a part of the page."""
    return request.headers.get("HX-Request-Type") == "partial"


def render(page: str, partial: str, *, status: int = 200, **context: object) -> ResponseReturnValue:
    """Render `partial` when htmx asks for a part of the page, else the whole `page`."""
    response = make_response(render_template(partial if wants_part() else page, **context), status)
    response.vary.add("HX-Request-Type")
    return response
