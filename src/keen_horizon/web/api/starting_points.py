"""Named sets of settings that clips may start with."""

from __future__ import annotations

from flask import Blueprint, jsonify
from werkzeug.wrappers import Response

from keen_horizon.core.starting_points import started
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations import starting
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import StartingPoint
from keen_horizon.web.bodies import Body, body, posted_treatment
from keen_horizon.web.present import starting_json
from keen_horizon.web.services import services

blueprint = Blueprint("starting_points", __name__, url_prefix="/api")


class NewStartingPoint(Body):
    """A name for the settings of a treatment."""

    name: str
    treatment: Treatment


@blueprint.get("/starting-points")
def list_starting_points() -> Response:
    """Named sets of settings."""
    with services().session() as session:
        return jsonify([starting_json(point) for point in starting.starting_points(session)])


@blueprint.post("/starting-points")
def save_starting_point() -> Response:
    """Keep a treatment's settings under a name."""
    wanted = body(NewStartingPoint)
    with services().session() as session:
        return jsonify(starting_json(starting.save_starting_point(session, wanted.name, wanted.treatment)))


@blueprint.post("/starting-points/<int:point_id>/apply")
def apply_starting_point(point_id: int) -> Response:
    """A treatment with a starting point applied."""
    treatment = posted_treatment()
    with services().session() as session:
        return jsonify(started(treatment, find(session, StartingPoint, point_id).settings).to_json())


@blueprint.post("/starting-points/<int:point_id>/default")
def default_starting_point(point_id: int) -> Response:
    """What new clips start with; asking again takes it back."""
    with services().session() as session:
        starting.make_default(session, find(session, StartingPoint, point_id))
        return jsonify([starting_json(point) for point in starting.starting_points(session)])


@blueprint.delete("/starting-points/<int:point_id>")
def remove_starting_point(point_id: int) -> Response:
    """Forget a starting point of one's own."""
    with services().session() as session:
        starting.remove_starting_point(session, find(session, StartingPoint, point_id))
    return jsonify({})
