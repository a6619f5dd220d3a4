"""Background work: the list, and what can be done to it."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, jsonify
from werkzeug.wrappers import Response

from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import works
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Work
from keen_horizon.web.present import work_list
from keen_horizon.web.services import services

blueprint = Blueprint("works", __name__, url_prefix="/api")


@blueprint.get("/works")
def all_works() -> Response:
    """Background work: what waits in its order, then the newest; and the space that is left."""
    with services().session() as session:
        return jsonify(work_list(session, services().files))


@blueprint.post("/works/<int:work_id>/<any(cancel, retry, sooner, later):action>")
def steer_work(work_id: int, action: str) -> Response:
    """Cancel work, try it again, or change its place in the queue."""
    with services().session() as session:
        work: Any = find(session, Work, work_id)
        if action == "cancel":
            works.cancel_work(session, work)
        elif action == "retry":
            work = works.retry_work(session, work)
        else:
            works.move_work(session, work, action == "sooner")
        return jsonify(work_json(work))
