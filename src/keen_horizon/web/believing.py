"""The part of the JSON API that shows what a clip's measurement believes."""

from __future__ import annotations

from flask import Blueprint, jsonify, request
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations import believing, solving
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import of_frames
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import posted_treatment
from keen_horizon.web.services import services

blueprint = Blueprint("believing", __name__, url_prefix="/api")


@blueprint.post("/clips/<int:clip_id>/belief")
def belief(clip_id: int) -> Response:
    """How sure the motion is and where it is not, and what moves by itself."""
    return jsonify(believing.belief_told(_asked(clip_id, posted_treatment())))


@blueprint.post("/clips/<int:clip_id>/points")
def points(clip_id: int) -> Response:
    """The followed points of some frames from the query's `first` on."""
    first = request.args.get("first", 0, type=int)
    return jsonify(believing.points_of(_asked(clip_id, posted_treatment()), first))


def _asked(clip_id: int, treatment: Treatment) -> solving.Question:
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        of_frames(clip)
        return solving.asked(session, services().files, clip, treatment)
