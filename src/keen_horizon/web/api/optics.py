"""The part of the JSON API that has to do with a clip's lens: finding it, and what is made with it for others."""

from __future__ import annotations

from typing import BinaryIO, cast

from flask import Blueprint, jsonify, request
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import LensFamily, LensSettings, Optics, Straightedge
from keen_horizon.core.treatment.parts import Coordinate, FrameNumber, LevelLine
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import optics, plates, treating
from keen_horizon.operations.findings import FALLOFF, FRINGE, OF_PLAIN
from keen_horizon.operations.lookup import find
from keen_horizon.pipeline.finding import edge_near
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import Body, body, posted_treatment
from keen_horizon.web.services import services

LARGEST_GRAPHICS = 4 << 30
MOST_LINES = 100  # that a lens is found by: more tell nothing new, and are solved for while a page waits

blueprint = Blueprint("optics", __name__, url_prefix="/api")


class WantedLens(Body):
    """Straightedges to find a lens by, of a fixed `family` or any; or a `given` lens to judge by them."""

    straightedges: tuple[Straightedge, ...] = Field(max_length=MOST_LINES)
    family: LensFamily | None = None
    given: LensSettings | None = None


class PlaceOnFrame(Body):
    """A place in pixels of the upright clip, on a frame."""

    frame: FrameNumber
    x: float = Field(ge=-1, le=65536)
    y: float = Field(ge=-1, le=65536)


class DrawnLines(Body):
    """Lines along what is level or vertical in the world, and the optics they are seen through."""

    optics: Optics
    lines: tuple[LevelLine, ...] = Field(min_length=1, max_length=32)


class DrawnCorners(Body):
    """Four corners of what should be a rectangle, in pixels of the upright clip, on a frame."""

    optics: Optics
    frame: FrameNumber
    quad: tuple[tuple[Coordinate, Coordinate], ...] = Field(min_length=4, max_length=4)


@blueprint.post("/clips/<int:clip_id>/lens")
def find_lens(clip_id: int) -> Response:
    """The lens that straightedges tell, or how straight they are with a given one."""
    wanted = body(WantedLens)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        return jsonify(optics.found_lens(session, clip, wanted.straightedges, wanted.family, wanted.given))


@blueprint.post("/clips/<int:clip_id>/turn")
def find_turn(clip_id: int) -> Response:
    """How the camera is turned so that drawn lines lie level or vertical."""
    wanted = body(DrawnLines)
    with services().session() as session:
        return jsonify(optics.found_turn(find(session, Clip, clip_id), wanted.optics, wanted.lines))


@blueprint.post("/clips/<int:clip_id>/corners")
def find_corners(clip_id: int) -> Response:
    """How the frame's corners move so that four drawn ones become those of a rectangle."""
    wanted = body(DrawnCorners)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        return jsonify(corners=optics.found_corners(clip, wanted.optics, wanted.frame, wanted.quad))


@blueprint.post("/clips/<int:clip_id>/snap")
def snap(clip_id: int) -> Response:
    """The clear edge nearest to a place; null where there is none."""
    wanted = body(PlaceOnFrame)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        question = optics.snapping(clip, services().files, wanted.frame, (wanted.x, wanted.y))
    return jsonify(place=services().apart.call(clip.name, edge_near, *question))


@blueprint.post("/clips/<int:clip_id>/flat")
def follow_flat(clip_id: int) -> Response:
    """Follow the treatment's flat thing through its range, in the background; null when that was done."""
    treatment = posted_treatment()
    with services().session() as session:
        work = treating.request_flat(session, find(session, Clip, clip_id), treatment)
        return jsonify(work=work_json(work) if work else None)


@blueprint.post("/clips/<int:clip_id>/automatic-lens")
def find_lens_by_itself(clip_id: int) -> Response:
    """Look for the lens in the clip itself, in the background; what was found comes with the work."""
    treatment = posted_treatment()
    with services().session() as session:
        return jsonify(work=work_json(treating.request_lens(session, find(session, Clip, clip_id), treatment)))


@blueprint.post("/clips/<int:clip_id>/<any(falloff, fringe):what>")
def measure_glass(clip_id: int, what: str) -> Response:
    """Measure the clip's fall-off or fringes in the background, and the other along with it; what was found comes with
    the clip.

    `plain` says that the clip shows a plain wall or sky.
    """
    treatment, sought = posted_treatment(), FALLOFF if what == "falloff" else FRINGE
    if what == "falloff" and "plain" in request.args:
        sought = OF_PLAIN
    with services().session() as session:
        work = treating.request_glass(session, find(session, Clip, clip_id), treatment, sought)
        return jsonify(work=work_json(work))


@blueprint.post("/clips/<int:clip_id>/<any(plates, maps):what>")
def render_for_others(clip_id: int, what: str) -> Response:
    """Queue the straight plate, or the ST maps, of a treatment's lens; maps of a keyed one are of a `frame`."""
    treatment, frame = posted_treatment(), request.args.get("frame", 0, type=int)
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if what == "plates":
            work = plates.request_plate(session, clip, treatment)
        else:
            work = plates.request_maps(session, clip, treatment, frame)
        return jsonify(works=[work_json(work)])


@blueprint.post("/clips/<int:clip_id>/overlays/<name>")
def overlay(clip_id: int, name: str) -> Response:
    """Queue laying graphics, the body, over a clip with the treatment it has, bent as its lens bends."""
    request.max_content_length = LARGEST_GRAPHICS
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        treatment = Treatment.from_json(clip.draft or {})
        data = cast(BinaryIO, request.stream)
        work = plates.request_overlay(session, services().files, clip, treatment, name, data)
        return jsonify(works=[work_json(work)])
