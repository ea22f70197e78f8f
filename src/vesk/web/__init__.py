"""The web application."""

from __future__ import annotations

import logging
import os
import secrets
import time
from typing import Any

from flask import Flask, Response, g, make_response, render_template, request
from flask.typing import ResponseReturnValue
from flask_wtf.csrf import CSRFError, CSRFProtect
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.exc import TimeoutError as NoConnectionError
from werkzeug.exceptions import HTTPException
from werkzeug.routing import IntegerConverter

from vesk.core.errors import RefusedError, VeskError
from vesk.core.figures import LARGEST_ID
from vesk.core.kinds import Role
from vesk.media.paperwork import MOST_BYTES
from vesk.settings import Settings, from_environment
from vesk.web import shared
from vesk.web.bench.views import bp as bench
from vesk.web.clocks.views import bp as clocks
from vesk.web.day.views import bp as day
from vesk.web.elsewhere.views import bp as elsewhere
from vesk.web.finding.views import bp as finding
from vesk.web.home.views import bp as home
from vesk.web.intake.changes import bp as intake
from vesk.web.joining.views import bp as joining
from vesk.web.journal.views import bp as journal
from vesk.web.media.views import bp as media
from vesk.web.naming.views import bp as naming
from vesk.web.recording.views import bp as recording
from vesk.web.reports.views import bp as reports
from vesk.web.shared import formats
from vesk.web.shared.form import LONGEST, status_of, told
from vesk.web.shared.views import bp as common
from vesk.web.signing_in.views import bp as signing_in
from vesk.web.signing_in.views import gate
from vesk.web.source.views import bp as source
from vesk.web.turnover.views import bp as turnover
from vesk.web.watching.views import bp as watching

LOOK = Role.LOOK
HERE = ("127.0.0.1", "localhost", "[::1]")
MOST_SENT = MOST_BYTES + (1 << 16)  # a report and the form around it: its own limit speaks first
_MOST_FIELDS = 20_000  # every recording of a very large day, ticked
_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=(), payment=(), usb=()",
    "Content-Security-Policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
        "connect-src 'self'; media-src 'self' blob:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    ),
}
_WHOLE = 4 << 20  # bytes
log = logging.getLogger(__name__)


def _secret(settings: Settings) -> str:
    """Return the key that signs sessions: kept, so that a restart logs no form out; made in one step, or anew."""
    path = settings.var / "web.secret"
    try:
        kept = path.read_text(encoding="ascii").strip()
    except (OSError, UnicodeDecodeError):
        kept = ""
    if len(kept) < 32:
        kept = secrets.token_urlsafe(32)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_name(f"{path.name}.{os.getpid()}.part")
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="ascii") as file:
            file.write(kept)
        part.replace(path)
    return kept


class _NumberInUse(IntegerConverter):
    """Numbers of rows: one that no row can have is no page."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **{"max": LARGEST_ID, **kwargs})


def create_app(settings: Settings | None = None) -> Flask:
    """Make the application; tests pass their own settings."""
    settings = settings or from_environment()
    app = Flask(__name__, static_folder="shared/static", static_url_path="/static", template_folder="shared/templates")
    app.config.update(SECRET_KEY=_secret(settings), VESK=settings, WTF_CSRF_TIME_LIMIT=None)
    app.config.update(MAX_CONTENT_LENGTH=MOST_SENT, MAX_FORM_MEMORY_SIZE=MOST_SENT, MAX_FORM_PARTS=_MOST_FIELDS)
    app.config.update(SESSION_COOKIE_SAMESITE="Strict", SEND_FILE_MAX_AGE_DEFAULT=0)
    app.url_map.converters["int"] = _NumberInUse
    app.config.update(SESSION_COOKIE_SECURE=settings.accounts)
    app.before_request(_begin)  # before the token is looked for: a stranger's name gets none
    app.before_request(gate)
    CSRFProtect(app)
    for blueprint in (
        common,
        home,
        day,
        clocks,
        joining,
        intake,
        naming,
        reports,
        source,
        bench,
        recording,
        turnover,
        elsewhere,
        journal,
        watching,
        media,
        signing_in,
        finding,
    ):
        app.register_blueprint(blueprint)
    app.jinja_env.filters.update(formats.FILTERS)
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.context_processor(_who)
    app.after_request(_finish)
    app.teardown_appcontext(shared.close_session)
    _register_errors(app)
    return app


def _who() -> dict[str, Any]:
    """Return who is at it, and what they may do, for every page."""
    account = g.get("account")
    return {"person": shared.settings().person, "account": account, "may_look": bool(account and account.role == LOOK)}


def _begin() -> ResponseReturnValue | None:
    g.begun = time.perf_counter()
    host = request.host.rpartition(":")[0] if request.host.rpartition(":")[2].isdecimal() else request.host
    if host.lower() not in {*HERE, *(name.lower() for name in shared.settings().hosts)}:
        # Another name for this machine is how a page from outside gets in.
        return make_response("Vesk does not answer to that name. Names besides 127.0.0.1 are set in VESK_HOSTS.", 421)
    sent = [*request.form.items(multi=True), *request.args.items(multi=True)]
    if any("\0" in name or "\0" in value for name, value in sent):
        raise RefusedError("A field holds a zero byte: that is no text. Nothing was changed.")
    longest = max((len(value) for _, value in sent), default=0)
    if longest > LONGEST:
        raise RefusedError(f"A field holds {longest} characters; {LONGEST} are the most. Nothing was changed.")
    return None


def _read_whole(response: Response) -> None:
    """Read a small file before it is sent: whoever lets go of a request, or ends the server, leaves none open."""
    given = response.response
    if not response.direct_passthrough or not hasattr(given, "close") or (response.content_length or 0) > _WHOLE:
        return
    response.direct_passthrough = False
    try:
        response.set_data(b"" if response.status_code == 304 else b"".join(response.iter_encoded()))
    finally:
        given.close()


def _finish(response: Response) -> Response:
    _read_whole(response)
    took = (time.perf_counter() - g.get("begun", time.perf_counter())) * 1000
    response.headers["Server-Timing"] = f"app;dur={took:.1f}"
    for name, value in _HEADERS.items():
        response.headers.setdefault(name, value)  # the report for paper brings its own style
    if response.mimetype == "text/html":
        # Going back must show the day as it is now, not as it was.
        response.headers["Cache-Control"] = "no-store"
    return response


def _register_errors(app: Flask) -> None:
    @app.errorhandler(VeskError)
    def _known(error: VeskError) -> ResponseReturnValue:
        return _error_page(told(error), status_of(error))

    @app.errorhandler(CSRFError)
    def _csrf(error: CSRFError) -> ResponseReturnValue:
        del error
        return _error_page(
            "This page was open from before a restart. Load it again and repeat; nothing was changed.", 400
        )

    @app.errorhandler(NoConnectionError)
    @app.errorhandler(DBAPIError)
    def _busy(error: Exception) -> ResponseReturnValue:
        shared.roll_back()
        if isinstance(error, DBAPIError) and not (error.connection_invalidated or isinstance(error, OperationalError)):
            log.error("a request failed in the database", exc_info=error)
            return _error_page(_INSIDE, 500)
        again = request.method == "GET"
        sentence = "Vesk is busy: somebody else's work holds what this needs, or its database is starting again. "
        sentence += "Trying again." if again else "Nothing was changed: do it again in a moment."
        response = make_response(_error_page(sentence, 503, again=again))
        response.headers["Retry-After"] = "3"
        return response

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> ResponseReturnValue:
        words = {
            400: "That was not sent as a page of Vesk sends it. Load the page again; nothing was changed.",
            404: "There is no such page here.",
            405: "That cannot be done here.",
            413: f"That is too large: {MOST_BYTES >> 20} MB and {_MOST_FIELDS} fields at most. Nothing was changed.",
        }
        return _error_page(words.get(error.code or 500, _INSIDE), error.code or 500)


_INSIDE = "Something went wrong inside Vesk; nothing decided was lost."


def _error_page(sentence: str, status: int, *, again: bool = False) -> ResponseReturnValue:
    if request.headers.get("HX-Request-Type") == "partial":
        return render_template("_error.html", sentence=sentence), status
    return render_template("error.html", sentence=sentence, status=status, again=again), status
