"""The web application."""

from __future__ import annotations

import secrets
import time

from flask import Flask, Response, g, render_template, request
from flask.typing import ResponseReturnValue
from flask_wtf.csrf import CSRFError, CSRFProtect
from werkzeug.exceptions import HTTPException

from vesk.core.errors import MediaError, NotFoundError, RefusedError, StaleError, VeskError
from vesk.settings import Settings, from_environment
from vesk.web import shared
from vesk.web.bench.views import bp as bench
from vesk.web.day.views import bp as day
from vesk.web.intake.changes import bp as intake
from vesk.web.journal.views import bp as journal
from vesk.web.media.views import bp as media
from vesk.web.naming.views import bp as naming
from vesk.web.recording.views import bp as recording
from vesk.web.reports.views import bp as reports
from vesk.web.shared import formats
from vesk.web.shared.views import bp as common
from vesk.web.source.views import bp as source
from vesk.web.turnover.views import bp as turnover

_STATUS = {NotFoundError: 404, StaleError: 409, RefusedError: 422, MediaError: 422}


def _secret(settings: Settings) -> str:
    """Return the key that signs sessions: kept, so that a restart logs no form out."""
    path = settings.var / "web.secret"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(32), encoding="ascii")
    return path.read_text(encoding="ascii")


def create_app(settings: Settings | None = None) -> Flask:
    """Make the application; tests pass their own settings."""
    settings = settings or from_environment()
    app = Flask(__name__, static_folder="shared/static", static_url_path="/static", template_folder="shared/templates")
    app.config.update(SECRET_KEY=_secret(settings), VESK=settings, WTF_CSRF_TIME_LIMIT=None, MAX_CONTENT_LENGTH=1 << 20)
    app.config.update(SESSION_COOKIE_SAMESITE="Strict", SEND_FILE_MAX_AGE_DEFAULT=0)
    CSRFProtect(app)
    for blueprint in (common, day, intake, naming, reports, source, bench, recording, turnover, journal, media):
        app.register_blueprint(blueprint)
    app.jinja_env.filters.update(formats.FILTERS)
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True

    @app.before_request
    def _begin() -> None:
        g.begun = time.perf_counter()

    @app.after_request
    def _finish(response: Response) -> Response:
        took = (time.perf_counter() - g.get("begun", time.perf_counter())) * 1000
        response.headers["Server-Timing"] = f"app;dur={took:.1f}"
        response.headers["X-Content-Type-Options"] = "nosniff"
        if response.mimetype == "text/html":
            # Going back must show the day as it is now, not as it was.
            response.headers["Cache-Control"] = "no-store"
        response.headers["Content-Security-Policy"] = (
            "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'"
        )
        return response

    app.teardown_appcontext(shared.close_session)

    @app.errorhandler(VeskError)
    def _known(error: VeskError) -> ResponseReturnValue:
        status = next((code for kind, code in _STATUS.items() if isinstance(error, kind)), 400)
        return _error_page(str(error), status)

    @app.errorhandler(CSRFError)
    def _csrf(error: CSRFError) -> ResponseReturnValue:
        del error
        return _error_page(
            "This page was open from before a restart. Load it again and repeat; nothing was changed.", 400
        )

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> ResponseReturnValue:
        words = {404: "There is no such page here.", 405: "That cannot be done here."}
        return _error_page(
            words.get(error.code or 500, "Something went wrong inside Vesk; nothing decided was lost."),
            error.code or 500,
        )

    return app


def _error_page(sentence: str, status: int) -> ResponseReturnValue:
    if request.headers.get("HX-Request-Type") == "partial":
        return render_template("_error.html", sentence=sentence), status
    return render_template("error.html", sentence=sentence, status=status), status
