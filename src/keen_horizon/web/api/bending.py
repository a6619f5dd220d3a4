"""The part of the JSON API that tells whether bending is worth while."""

from __future__ import annotations

from flask import Blueprint, jsonify
from werkzeug.wrappers import Response

from keen_horizon.operations.bending import bend_told
from keen_horizon.web.asking import asked_of
from keen_horizon.web.bodies import posted_treatment

blueprint = Blueprint("bending", __name__, url_prefix="/api")


@blueprint.post("/clips/<int:clip_id>/bend")
def bend(clip_id: int) -> Response:
    """By how much near and far move apart, and what bending would leave of that."""
    return jsonify(bend_told(asked_of(clip_id, posted_treatment(), frames_only=True)))
