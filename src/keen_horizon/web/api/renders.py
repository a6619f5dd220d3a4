"""Files to be written: of one clip, of two treatments beside each other, of other clips."""

from __future__ import annotations

from typing import Literal

from flask import Blueprint, jsonify
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import starting, treating
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import Body, Rows, body, posted_treatment
from keen_horizon.web.services import services

blueprint = Blueprint("renders", __name__, url_prefix="/api")


class ComparisonWanted(Body):
    """Two treatments to be rendered into one picture; `against` null is the clip as shot."""

    treatment: Treatment
    against: Treatment | None
    layout: Literal["side", "wipe"]
    place: float = Field(default=0.5, ge=0, le=1)
    turn: float = Field(default=0.0, ge=-1.6, le=1.6)


class CopyWanted(Body):
    """A treatment and the clips that get it."""

    treatment: Treatment
    clips: Rows
    render: bool = False


@blueprint.post("/clips/<int:clip_id>/renders")
def render(clip_id: int) -> Response:
    """Render a treatment, measuring first where that is still to be done."""
    treatment = posted_treatment()
    with services().session() as session:
        queued = treating.request_render(session, find(session, Clip, clip_id), treatment)
        return jsonify(works=[work_json(work) for work in queued])


@blueprint.post("/clips/<int:clip_id>/comparisons")
def compare(clip_id: int) -> Response:
    """Render a treatment beside another one or the clip as shot."""
    wanted = body(ComparisonWanted)
    other = wanted.against.to_json() if wanted.against else None
    versus = {"treatment": other, "layout": wanted.layout, "place": wanted.place, "turn": wanted.turn}
    with services().session() as session:
        queued = treating.request_render(session, find(session, Clip, clip_id), wanted.treatment, versus)
        return jsonify(works=[work_json(work) for work in queued])


@blueprint.post("/clips/<int:clip_id>/copies")
def copy_treatment(clip_id: int) -> Response:
    """Give a treatment to other clips, have them measured, and rendered if wanted."""
    wanted = body(CopyWanted)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        changed = starting.copy_treatment(session, clip, wanted.treatment, wanted.clips)
        queued = [work for other in changed for work in treating.start_on(session, other, wanted.render)]
        return jsonify(clips=[other.id for other in changed], works=[work_json(work) for work in queued])
