"""What an error becomes: a clear sentence and a fitting status, as JSON under /api/, as a page elsewhere."""

from __future__ import annotations

import logging
from errno import EDQUOT, ENOSPC

from flask import Flask, Response, jsonify, render_template, request
from flask_wtf.csrf import CSRFError
from pydantic import ValidationError
from sqlalchemy.exc import DataError, OperationalError, TimeoutError
from werkzeug.exceptions import HTTPException, SecurityError

from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.operations.errors import NotThere, SourceChanged
from keen_horizon.operations.uploads import PieceRefused
from keen_horizon.store.database import DISK_FULL, disk_is_full

log = logging.getLogger(__name__)

Answer = tuple[Response | str, int]

MESSAGES = {404: "There is nothing at this address.", 413: "This is more than can be sent at once."}
UNFORESEEN = "Something went wrong that nobody foresaw; the log has details. Nothing was lost. Try again."


def explain_errors(app: Flask) -> None:
    """Register an answer for every kind of error."""
    app.register_error_handler(KeenHorizonError, _explained)
    app.register_error_handler(PieceRefused, _piece_refused)
    app.register_error_handler(ValidationError, _invalid)
    app.register_error_handler(CSRFError, _expired)
    app.register_error_handler(SecurityError, _foreign)
    app.register_error_handler(OperationalError, _database_away)
    app.register_error_handler(DataError, _not_kept)
    app.register_error_handler(TimeoutError, _busy)
    app.register_error_handler(OSError, _disk)
    app.register_error_handler(HTTPException, _http)
    app.register_error_handler(Exception, _unforeseen)


def _explained(error: KeenHorizonError) -> Answer:
    status = 404 if isinstance(error, NotThere) else 409 if isinstance(error, SourceChanged) else 400
    return _answer(str(error), status)


def _piece_refused(error: PieceRefused) -> Answer:
    return jsonify(error=str(error), received=error.received), 409


def _invalid(error: ValidationError) -> Answer:
    first = error.errors()[0]
    key = ".".join(str(part) for part in first["loc"]) or "document"
    return _answer(f"{key}: {first['msg'].removeprefix('Value error, ')}", 400)


def _expired(error: CSRFError) -> Answer:
    return _answer("This page is too old to change anything. Load it again.", 400)


def _foreign(error: SecurityError) -> Answer:
    """Asked under a name that is not the application's: nothing is told, and no address can be made for a page."""
    return "This name is not one of Keen Horizon's. Set KEEN_HORIZON_HOSTS to reach it under another one.", 400


def _database_away(error: OperationalError) -> Answer:
    if disk_is_full(error):
        return _answer(DISK_FULL, 507)
    return _answer("The database does not answer. Nothing was lost; try again in a moment.", 503)


def _not_kept(error: DataError) -> Answer:
    log.warning("a figure that the database cannot hold: %s", error.orig)
    return _answer("A figure or text of this is larger than what can be kept.", 400)


def _busy(error: TimeoutError) -> Answer:
    return _answer("Too much is asked for at once. Nothing was lost; try again in a moment.", 503)


def _disk(error: OSError) -> Answer:
    if error.errno in (ENOSPC, EDQUOT):
        return _answer(DISK_FULL, 507)
    return _unforeseen(error)


def _http(error: HTTPException) -> Answer:
    code = error.code or 500
    return _answer(MESSAGES.get(code, error.description or "Something went wrong."), code)


def _unforeseen(error: Exception) -> Answer:
    log.error("%s %s failed", request.method, request.path, exc_info=error)
    return _answer(UNFORESEEN, 500)


def _answer(message: str, code: int) -> Answer:
    if request.path.startswith("/api/"):
        return jsonify(error=message), code
    return render_template("error.html", message=message), code
