"""The part of the JSON API that shows what a clip's measurement believes."""

from __future__ import annotations

from flask import Blueprint, jsonify, request
from werkzeug.wrappers import Response

from keen_horizon.operations import believing
from keen_horizon.web.asking import asked_of
from keen_horizon.web.bodies import posted_treatment

blueprint = Blueprint("believing", __name__, url_prefix="/api")


@blueprint.post("/clips/<int:clip_id>/belief")
def belief(clip_id: int) -> Response:
    """How sure the motion is and where it is not, and what moves by itself."""
    return jsonify(believing.belief_told(asked_of(clip_id, posted_treatment())))


@blueprint.post("/clips/<int:clip_id>/points")
def points(clip_id: int) -> Response:
    """The followed points of some frames from the query's `first` on."""
    first = request.args.get("first", 0, type=int)
    return jsonify(believing.points_of(asked_of(clip_id, posted_treatment()), first))
