"""The part of the JSON API that has to do with what a clip's file carries: how it is read, what goes along."""

from __future__ import annotations

from dataclasses import asdict
from typing import Literal

from flask import Blueprint, jsonify
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.media.along import summary
from keen_horizon.core.media.scanning import Asked
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import clips
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info
from keen_horizon.pipeline.delivery import clip_fates
from keen_horizon.pipeline.like_source import like_source, what_cannot_be_had
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import Body, Rows, body, posted_treatment
from keen_horizon.web.present import clip_card
from keen_horizon.web.services import services

blueprint = Blueprint("carrying", __name__, url_prefix="/api")


BEFORE = (
    "This clip was prepared before files were asked what else they carry. It is looked up when the clip is rendered; "
    "prepare it anew to see it here."
)


class AskedReading(Body):
    """How an editor wants a clip's fields, or numbered pictures, read, and whether it shows all around."""

    fields: Literal["as found", "none", "top", "bottom"] = "as found"
    every_field: bool | None = None
    rate: float | None = Field(default=None, ge=0.1, le=1000)
    camera: Literal["as found", "frame", "sphere"] = "as found"


@blueprint.post("/clips/<int:clip_id>/reading")
def read_otherwise(clip_id: int) -> Response:
    """Prepare a clip anew with its fields read as asked."""
    asked = body(AskedReading)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        return jsonify(work_json(clips.read_otherwise(session, clip, Asked(**asked.model_dump()))))


class SeveralClips(Body):
    """Clips of a project that go on from one another."""

    clips: Rows


@blueprint.post("/projects/<int:project_id>/join")
def join(project_id: int) -> Response:
    """Start one clip of several files of a take."""
    wanted = body(SeveralClips)
    with services().session() as session:
        return jsonify(clip_card(clips.join_clips(session, project_id, wanted.clips), services().files))


@blueprint.post("/clips/<int:clip_id>/goes-along")
def goes_along(clip_id: int) -> Response:
    """What becomes of everything the clip carries when it is delivered as the treatment says."""
    treatment = posted_treatment()
    with services().session() as session:
        info = clip_info(find(session, Clip, clip_id))
    near = like_source(treatment, info)
    told = what_cannot_be_had(info) if near is not treatment else ()
    if not info.carried.container:
        told = (*told, BEFORE)
    lines = clip_fates(info, near)
    return jsonify(
        fates=[asdict(line) for line in lines],
        summary=summary(lines),
        notes=told,
        output=near.output.model_dump(mode="json"),
    )
