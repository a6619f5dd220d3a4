"""Putting the application together: services, security headers, sign-in, errors, pages."""

from __future__ import annotations

from flask import Flask, Response
from flask_wtf.csrf import CSRFProtect

from keen_horizon.config import Settings
from keen_horizon.core.treatment.figures import FIGURES
from keen_horizon.store.cache import Cache
from keen_horizon.store.database import connect
from keen_horizon.store.files import FileStore
from keen_horizon.web import api, pages, persons
from keen_horizon.web.changes import Changes
from keen_horizon.web.errors import explain_errors
from keen_horizon.web.services import Services
from keen_horizon.web.shipped import ship

POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; media-src 'self' blob:; object-src 'none'; "
    "base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
)
LARGEST_REQUEST = 64 << 20


def create_app(settings: Settings) -> Flask:
    """The application for some settings."""
    app = Flask(__name__)
    app.config.update(
        SECRET_KEY=settings.secret_key(),
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        TRUSTED_HOSTS=settings.trusted_hosts(),
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_SSL_STRICT=False,
        MAX_CONTENT_LENGTH=LARGEST_REQUEST,
    )
    files = FileStore(settings.data, settings.media)
    app.extensions["keen_horizon"] = Services(
        settings=settings,
        engine=connect(settings.database_url),
        files=files,
        pictures=Cache(files.cache / "stills"),
        changes=Changes(settings.database_url),
        who=persons.signed_in_name if settings.shared else persons.nobody,
    )
    persons.guard(app, settings)
    CSRFProtect(app)
    ship(app)
    app.jinja_env.globals["FIGURES"] = FIGURES
    for room in (pages, persons, *api.ROOMS):
        app.register_blueprint(room.blueprint)
    app.after_request(_headers)
    explain_errors(app)
    return app


def _headers(response: Response) -> Response:
    response.headers["Content-Security-Policy"] = POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    return response
