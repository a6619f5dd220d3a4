"""Putting the application together: services, security headers, errors, pages."""

from __future__ import annotations

from flask import Flask, Response, jsonify, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect
from pydantic import ValidationError
from sqlalchemy.exc import OperationalError
from werkzeug.exceptions import HTTPException

from keen_horizon.config import Settings
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.operations.errors import NotThere
from keen_horizon.store.database import connect
from keen_horizon.store.files import FileStore
from keen_horizon.web import api, events, media, optics, pages, profiles
from keen_horizon.web.services import Services

POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; media-src 'self' blob:; object-src 'none'; "
    "base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
)


def create_app(settings: Settings) -> Flask:
    """The application for some settings."""
    app = Flask(__name__)
    app.config.update(
        SECRET_KEY=settings.secret_key(),
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_SSL_STRICT=False,
        MAX_CONTENT_LENGTH=64 << 20,
    )
    app.extensions["keen_horizon"] = Services(settings, connect(settings.database_url), FileStore(settings.data))
    CSRFProtect(app)
    for blueprint in (
        pages.blueprint,
        api.blueprint,
        media.blueprint,
        events.blueprint,
        optics.blueprint,
        profiles.blueprint,
    ):
        app.register_blueprint(blueprint)
    app.after_request(_headers)
    app.register_error_handler(KeenHorizonError, _explained)
    app.register_error_handler(ValidationError, _invalid)
    app.register_error_handler(CSRFError, _expired)
    app.register_error_handler(OperationalError, _database_away)
    app.register_error_handler(HTTPException, _http)
    return app


def _headers(response: Response) -> Response:
    response.headers["Content-Security-Policy"] = POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    return response


def _explained(error: KeenHorizonError) -> tuple[Response | str, int]:
    return _answer(str(error), 404 if isinstance(error, NotThere) else 400)


def _invalid(error: ValidationError) -> tuple[Response | str, int]:
    first = error.errors()[0]
    return _answer(f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}", 400)


def _expired(error: CSRFError) -> tuple[Response | str, int]:
    return _answer("This page is too old to change anything. Load it again.", 400)


def _database_away(error: OperationalError) -> tuple[Response | str, int]:
    return _answer("The database does not answer. Nothing was lost; try again in a moment.", 503)


def _http(error: HTTPException) -> tuple[Response | str, int]:
    messages = {404: "There is nothing at this address.", 413: "This is more than can be sent at once."}
    code = error.code or 500
    return _answer(messages.get(code, error.description or "Something went wrong."), code)


def _answer(message: str, code: int) -> tuple[Response | str, int]:
    if request.path.startswith("/api/"):
        return jsonify(error=message), code
    return render_template("error.html", message=message), code
