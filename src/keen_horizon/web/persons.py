"""Signing in, where the application is reached from other machines; on loopback nothing of this is in the way."""

from __future__ import annotations

from datetime import timedelta
from time import time

from flask import Blueprint, Flask, current_app, g, jsonify, redirect, render_template, request, session, url_for
from flask.sessions import SecureCookieSessionInterface, SessionMixin
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter
from werkzeug.wrappers import Response

from keen_horizon.config import Settings, is_loopback
from keen_horizon.operations import persons
from keen_horizon.store.models import Person
from keen_horizon.web.services import services
from keen_horizon.web.shipped import SHIPPED

blueprint = Blueprint("persons", __name__)

IDLE = timedelta(hours=12)  # a session ends after as long without a request
LONGEST_S = 7 * 86_400.0  # and at the latest after a week
PER_NAME = RateLimitItemPerMinute(5, 1)  # wrong passwords
PER_ADDRESS = RateLimitItemPerMinute(20, 1)
OPEN_TO_ALL = ("persons.sign_in", "static", "shipped.file")
NOT_SECURE = (
    "Keen Horizon is reached from other machines over https only. Put a proxy with TLS before it and name the proxy's "
    "address in KEEN_HORIZON_PROXY.\n"
)


class SignedIn(UserMixin):
    """Who is signed in, as the session knows them: changing the person's stamp ends it."""

    def __init__(self, person: Person) -> None:
        self.name = person.name
        self._identity = f"{person.id}:{person.stamp}"

    def get_id(self) -> str:
        """What the session keeps."""
        return self._identity


class SecureWhereTold(SecureCookieSessionInterface):
    """Session cookies that stay on TLS once they came over TLS, for everything but the files that ship."""

    def save_session(self, app: Flask, session: SessionMixin, response: Response) -> None:
        """Say nothing of it with a file that ships: else what a browser keeps of it would hang on its cookie."""
        if not request.path.startswith(SHIPPED):
            super().save_session(app, session, response)

    def get_cookie_secure(self, app: Flask) -> bool:
        """Whether this answer goes over TLS."""
        return request.is_secure


def signed_in_name() -> str | None:
    """Who asks; None where nobody is signed in."""
    name: str | None = g.get("person")
    return name


def nobody() -> None:
    """Who asks, where nobody signs in."""


def guard(app: Flask, settings: Settings) -> None:
    """Ask everybody to sign in, and refuse plain HTTP from elsewhere, where the application is shared."""
    app.session_interface = SecureWhereTold()
    app.config["PERMANENT_SESSION_LIFETIME"] = IDLE
    manager = LoginManager(app)
    manager.session_protection = "strong"
    manager.user_loader(_loaded)
    app.extensions["keen_horizon_attempts"] = MovingWindowRateLimiter(MemoryStorage())
    if settings.shared:
        app.before_request(_checked)


def _loaded(identity: str) -> SignedIn | None:
    number, _, stamp = identity.partition(":")
    with services().transaction() as rows:
        person = rows.get(Person, int(number))
        return SignedIn(person) if person and person.stamp == stamp else None


def _checked() -> Response | tuple[Response, int] | tuple[str, int, dict[str, str]] | None:
    if not request.is_secure and not is_loopback(request.remote_addr):
        return NOT_SECURE, 403, {"Content-Type": "text/plain; charset=utf-8"}
    if request.endpoint in OPEN_TO_ALL:
        return None
    if current_user.is_authenticated and session.get("until", 0) > time():
        g.person = current_user.name
        return None
    if request.path.startswith("/api/"):
        return jsonify(error="Your session has ended. Sign in again; nothing was lost."), 401
    return redirect(url_for("persons.sign_in", next=request.full_path.rstrip("?")))


@blueprint.route("/sign-in", methods=["GET", "POST"])
def sign_in() -> str | Response | tuple[str, int]:
    """The page that asks who somebody is."""
    if not services().settings.shared:
        return redirect("/")
    if request.method == "GET":
        with services().transaction() as rows:
            return render_template("sign_in.html", nobody=not persons.persons(rows), error="")
    name = request.form.get("name", "")[: persons.LONGEST_NAME]
    if not _may_try(name):
        text = "Too many wrong passwords. Wait a minute, then try again."
        return render_template("sign_in.html", nobody=False, error=text, name=name), 429
    with services().transaction() as rows:
        person = persons.checked_person(rows, name, request.form.get("password", ""))
    if person is None:
        _note_failure(name)
        text = "This name and password do not belong together."
        return render_template("sign_in.html", nobody=False, error=text, name=name), 401
    session.clear()
    login_user(SignedIn(person))
    session.permanent, session["until"] = True, time() + LONGEST_S
    return redirect(_own_page(request.args.get("next", "/")))


@blueprint.post("/sign-out")
def sign_out() -> Response:
    """End this session."""
    logout_user()
    session.clear()
    return redirect(url_for("persons.sign_in"))


def _may_try(name: str) -> bool:
    attempts = _attempts()
    by_name = attempts.test(PER_NAME, "name", name.lower())
    return by_name and attempts.test(PER_ADDRESS, "address", request.remote_addr or "")


def _note_failure(name: str) -> None:
    attempts = _attempts()
    attempts.hit(PER_NAME, "name", name.lower())
    attempts.hit(PER_ADDRESS, "address", request.remote_addr or "")


def _attempts() -> MovingWindowRateLimiter:
    found: MovingWindowRateLimiter = current_app.extensions["keen_horizon_attempts"]
    return found


def _own_page(address: str) -> str:
    """A page of this application, whatever a link asked for."""
    inside = address.startswith("/") and not address.startswith(("//", "/\\"))
    return address if inside and address.isprintable() else "/"
