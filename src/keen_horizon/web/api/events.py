"""Progress as server-sent events."""

from __future__ import annotations

import queue
import time
from collections.abc import Iterator

from flask import Blueprint, Response, jsonify

from keen_horizon.web.changes import Changes
from keen_horizon.web.services import services

blueprint = Blueprint("events", __name__)

QUIET_S = 15.0
LONGEST_S = 3600.0  # then the page asks again, and has to be signed in still, where people sign in
MOST_STREAMS = 260  # each holds one of the server's threads (see launch); pages beyond that ask every two seconds


@blueprint.get("/api/events")
def stream() -> tuple[Response, int] | Response:
    """A stream of changes of background work, and of the database going away and coming back."""
    changes = services().changes
    if changes.streams >= MOST_STREAMS:
        return jsonify(error="So many pages are open that this one asks for news instead of being told."), 503
    response = Response(_events(changes), mimetype="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


def _events(changes: Changes) -> Iterator[str]:
    end = time.monotonic() + LONGEST_S
    with changes.stream() as unread:
        yield "retry: 2000\n\n"
        while time.monotonic() < end:
            try:
                change = unread.get(timeout=QUIET_S)
            except queue.Empty:
                yield ": still here\n\n"
                continue
            if change is None:
                return
            yield f"event: {change.kind}\ndata: {change.text}\n\n"
