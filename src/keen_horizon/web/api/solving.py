"""Paths solved from a clip's stored measurement, and their data."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import PurePath

from flask import Blueprint, jsonify, request
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.errors import Stopped
from keen_horizon.core.path.tradeoff import trade_off as zoom_against_shake
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations import solving
from keen_horizon.operations.errors import NotThere
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_flat, clip_info, clip_times, of_frames
from keen_horizon.pipeline.flat_things import flat_thing_document
from keen_horizon.pipeline.report import path_document
from keen_horizon.store.models import Clip
from keen_horizon.web.bodies import Body, body, posted_treatment
from keen_horizon.web.downloads import data_file
from keen_horizon.web.services import services

blueprint = Blueprint("solving", __name__, url_prefix="/api")


class WantedShake(Body):
    """How much shake may remain under a treatment, percent of the width a frame squared."""

    treatment: Treatment
    shake_percent: float = Field(gt=0, le=100)


@blueprint.post("/clips/<int:clip_id>/solve")
def solve(clip_id: int) -> Response:
    """Solve for a treatment, from the stored measurement; only the newest question of an `asker` is answered.

    `number` counts its questions, which may overtake each other on the way; `lens` names the tables that the asker has
    already.
    """
    treatment, asker = posted_treatment(), request.args.get("asker", "")
    number = request.args.get("number", None, type=int)
    outdated = services().solves.ask((clip_id, asker), number) if asker else lambda: False
    question = _asked(clip_id, treatment)
    with services().solving:  # one after the other: what was overtaken while it waited is never begun
        if outdated():
            raise Stopped("A newer question was asked.")
        solution = solving.solution_of(question)
    return jsonify(solution.to_json(request.args.get("lens", "")))


@blueprint.post("/clips/<int:clip_id>/trade-off")
def trade_off(clip_id: int) -> Response:
    """The curve of zoom against remaining shake; a newer question of the same `asker` ends the computing."""
    treatment = posted_treatment()
    outdated = services().curves.ask((clip_id, request.args.get("asker", "")))
    question = _asked(clip_id, treatment, of_frame=True)
    curve = zoom_against_shake(question.measurement, question.treatment, question.pins, should_stop=outdated)
    return jsonify([asdict(point) for point in curve])


@blueprint.post("/clips/<int:clip_id>/smallest-zoom")
def smallest_zoom(clip_id: int) -> Response:
    """The smallest zoom limit that leaves no more than the wanted shake."""
    wanted = body(WantedShake)
    point = solving.smallest_zoom_of(_asked(clip_id, wanted.treatment, of_frame=True), wanted.shake_percent)
    return jsonify(asdict(point))


@blueprint.post("/clips/<int:clip_id>/data/<any('path.json', 'path.csv', 'transforms.csv'):name>")
def path_data(clip_id: int, name: str) -> Response:
    """The camera path of a treatment, as a file, without rendering it."""
    treatment = posted_treatment()
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        info, times = clip_info(clip), clip_times(clip, files)
        path = solving.clip_path(session, files, clip, treatment)
    return data_file(path_document(path, info, times), PurePath(clip.name).stem, name)


@blueprint.post("/clips/<int:clip_id>/data/<any('corners.json', 'corners.csv'):name>")
def corners_data(clip_id: int, name: str) -> Response:
    """The corners of a treatment's flat thing, as a file, as they were followed."""
    treatment = posted_treatment()
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        track = clip_flat(session, files, clip, treatment)
        if track is None:
            raise NotThere(f"{clip.name}: its flat thing has not been followed through this range yet.")
        document = flat_thing_document(track, treatment, clip_info(clip), clip_times(clip, files))
    return data_file(document, PurePath(clip.name).stem, name)


def _asked(clip_id: int, treatment: Treatment, *, of_frame: bool = False) -> solving.Question:
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if of_frame:
            of_frames(clip)
        return solving.asked(session, services().files, clip, treatment)
