"""Progress as server-sent events, straight from PostgreSQL's notifications."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

import psycopg
from flask import Blueprint, Response

from keen_horizon.jobs.progress import CHANNEL
from keen_horizon.web.services import services

blueprint = Blueprint("events", __name__)
QUIET_S = 15.0


@blueprint.get("/api/events")
def stream() -> Response:
    """A stream of changes of background work; it ends with the database and the browser asks again."""
    url = services().settings.database_url
    response = Response(_changes(url), mimetype="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


def _changes(url: str) -> Iterator[str]:
    with suppress(psycopg.OperationalError), psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"LISTEN {CHANNEL}")
        yield "retry: 2000\n\n"
        while True:
            for notice in connection.notifies(timeout=QUIET_S, stop_after=1):
                yield f"data: {notice.payload}\n\n"
            yield ": still here\n\n"
