"""A clip: what is known of it, its draft and versions, and measuring it."""

from __future__ import annotations

from flask import Blueprint, jsonify, request
from werkzeug.wrappers import Response

from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import clips, treating
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import posted_treatment
from keen_horizon.web.present import clip_detail, version_json
from keen_horizon.web.services import services

blueprint = Blueprint("clips", __name__, url_prefix="/api")


@blueprint.get("/clips/<int:clip_id>")
def clip(clip_id: int) -> Response:
    """Everything about a clip."""
    with services().session() as session:
        return jsonify(clip_detail(find(session, Clip, clip_id), services().files))


@blueprint.delete("/clips/<int:clip_id>")
def remove(clip_id: int) -> Response:
    """Take a clip off the shelf."""
    with services().session() as session:
        clips.remove_clip(session, find(session, Clip, clip_id))
    return jsonify({})


@blueprint.post("/clips/<int:clip_id>/retry")
def retry_arrival(clip_id: int) -> Response:
    """Prepare a clip again."""
    with services().session() as session:
        return jsonify(work_json(clips.retry_arrival(session, find(session, Clip, clip_id))))


@blueprint.put("/clips/<int:clip_id>/draft")
def save_draft(clip_id: int) -> Response:
    """Keep the treatment being worked on."""
    treatment = posted_treatment()
    with services().session() as session:
        treating.save_draft(session, find(session, Clip, clip_id), treatment)
    return jsonify({})


@blueprint.post("/clips/<int:clip_id>/measure")
def measure(clip_id: int) -> Response:
    """Measure the treatment's range; with the query's `anew`, also where that was done, with `finer`, more closely."""
    treatment, anew = posted_treatment(), "anew" in request.args
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if "finer" in request.args:
            return jsonify(work=work_json(treating.request_finer(session, clip, treatment)))
        work = treating.request_measurement(session, clip, treatment, anew=anew)
        return jsonify(work=work_json(work) if work else None)


@blueprint.post("/clips/<int:clip_id>/pins")
def follow_pins(clip_id: int) -> Response:
    """Follow the treatment's pinned points through its range."""
    treatment = posted_treatment()
    with services().session() as session:
        works = treating.request_pins(session, find(session, Clip, clip_id), treatment)
        return jsonify(works=[work_json(work) for work in works])


@blueprint.post("/clips/<int:clip_id>/versions")
def save_version(clip_id: int) -> Response:
    """Save a treatment as the next version."""
    treatment = posted_treatment()
    with services().session() as session:
        found = find(session, Clip, clip_id)
        return jsonify(version_json(treating.save_version(session, services().files, found, treatment)))
