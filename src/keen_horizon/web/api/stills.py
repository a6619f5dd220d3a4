"""Exact frames as pictures. They are made in a process apart, since strangers' media is read for them, and kept."""

from __future__ import annotations

from typing import Annotated

from flask import Blueprint, request
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.parts import FARTHEST_PX, FrameNumber
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info, clip_times, source_file
from keen_horizon.operations.solving import clip_path, shown_treatment
from keen_horizon.operations.treating import chosen_treatment
from keen_horizon.pipeline.still import Look, still_jpeg
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import Body, body
from keen_horizon.web.services import services

blueprint = Blueprint("stills", __name__)

Corner = Annotated[int, Field(ge=-int(FARTHEST_PX), le=int(FARTHEST_PX))]
Side = Annotated[int, Field(ge=8, le=4096)]


class WantedStill(Body):
    """A frame, as shot or through a treatment; `part` (x, y, width, height) of it at full size, or all of it.

    `mark` tints what other frames lent.
    """

    frame: FrameNumber
    treatment: Treatment | None = None
    part: tuple[Corner, Corner, Side, Side] | None = None
    mark: bool = False


@blueprint.post("/api/clips/<int:clip_id>/stills")
def make(clip_id: int) -> Response:
    """One exact frame as JPEG."""
    return _still(clip_id, body(WantedStill))


@blueprint.get("/media/clips/<int:clip_id>/still.jpg")
def still(clip_id: int) -> Response:
    """One exact frame, as shot, or through what is kept: the query's `of`, "draft" or a version's letter."""
    wanted = WantedStill.model_validate({"frame": request.args.get("frame", "0")})
    if "of" in request.args:
        with services().session() as session:
            treatment = chosen_treatment(find(session, Clip, clip_id), request.args["of"])
        wanted = wanted.model_copy(update={"treatment": treatment})
    return _still(clip_id, wanted)


def _still(clip_id: int, wanted: WantedStill) -> Response:
    files, cache = services().files, services().pictures
    look = Look(part=wanted.part, mark=wanted.mark)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        info, times, source = clip_info(clip), clip_times(clip, files), source_file(clip, files)
        info.check_frame(wanted.frame)
        treatment = wanted.treatment and shown_treatment(session, clip, wanted.treatment)
        findings = [found.id for found in clip.findings]
        settings = treatment and treatment.to_json()
        name = cache.name(clip.digest, clip.id, wanted.frame, wanted.part, wanted.mark, settings, findings)
        made = cache.get(name)
        path = clip_path(session, files, clip, treatment) if treatment and made is None else None
    if made is None:
        made = services().apart.call(clip.name, still_jpeg, source, info, times, wanted.frame, path, treatment, look)
        cache.put(name, made)
    return Response(made, mimetype="image/jpeg", headers={"Cache-Control": "no-store"})
