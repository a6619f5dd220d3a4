"""The JSON API that the pages use. Bodies are checked by pydantic; errors come as {"error": text}."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import PurePath
from typing import Any, Literal

from flask import Blueprint, jsonify, request
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.core.errors import Stopped
from keen_horizon.core.path.tradeoff import trade_off as zoom_against_shake
from keen_horizon.core.starting_points import started
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import clips, solving, starting, treating, works
from keen_horizon.operations.errors import NotThere
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_flat, clip_info, clip_times, of_frames
from keen_horizon.pipeline.flat_things import flat_thing_document
from keen_horizon.pipeline.report import path_document
from keen_horizon.store.models import Clip, Project, StartingPoint, Work
from keen_horizon.web.bodies import Body, Rows, body, posted_treatment
from keen_horizon.web.downloads import data_file
from keen_horizon.web.present import clip_card, clip_detail, starting_json, version_json, work_list
from keen_horizon.web.services import services

blueprint = Blueprint("api", __name__, url_prefix="/api")


class NewProject(Body):
    """A project to start."""

    name: str
    measures_itself: bool = False


class MediaFile(Body):
    """A file of the media folder, by relative name."""

    path: str = Field(min_length=1)


class WantedShake(Body):
    """How much shake may remain under a treatment, percent of the width a frame squared."""

    treatment: Treatment
    shake_percent: float = Field(gt=0, le=100)


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


class SomeClips(Body):
    """Clips by number."""

    clips: Rows


class MeasuresItself(Body):
    """Whether a project's clips are measured as they arrive."""

    wanted: bool


class NewStartingPoint(Body):
    """A name for the settings of a treatment."""

    name: str
    treatment: Treatment


@blueprint.post("/projects")
def new_project() -> Response:
    """Start a project."""
    wanted = body(NewProject)
    with services().session() as session:
        return jsonify(id=clips.new_project(session, wanted.name, wanted.measures_itself).id)


@blueprint.put("/projects/<int:project_id>/measures-itself")
def measures_itself(project_id: int) -> Response:
    """Say whether clips that arrive from now on are measured by themselves."""
    wanted = body(MeasuresItself)
    with services().session() as session:
        find(session, Project, project_id).measures_itself = wanted.wanted
        return jsonify(measures_itself=wanted.wanted)


@blueprint.get("/projects/<int:project_id>/clips")
def shelf_clips(project_id: int) -> Response:
    """The cards of a project."""
    with services().session() as session:
        return jsonify([clip_card(clip, services().files) for clip in find(session, Project, project_id).clips])


@blueprint.post("/projects/<int:project_id>/media")
def register(project_id: int) -> Response:
    """Use a file of the media folder without copying it."""
    wanted = body(MediaFile)
    with services().session() as session:
        clip = clips.register_from_folder(session, services().files, project_id, services().settings.media, wanted.path)
        return jsonify(clip_card(clip, services().files))


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


def _asked(clip_id: int, treatment: Treatment, *, of_frame: bool = False) -> solving.Question:
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if of_frame:
            of_frames(clip)
        return solving.asked(session, services().files, clip, treatment)


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


@blueprint.post("/clips/<int:clip_id>/versions")
def save_version(clip_id: int) -> Response:
    """Save a treatment as the next version."""
    treatment = posted_treatment()
    with services().session() as session:
        found = find(session, Clip, clip_id)
        return jsonify(version_json(treating.save_version(session, services().files, found, treatment)))


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


@blueprint.post("/projects/<int:project_id>/<any(measure, render):task>")
def start_on_clips(project_id: int, task: str) -> Response:
    """Measure or render several clips, each with the treatment it has."""
    wanted = body(SomeClips)
    with services().session() as session:
        chosen = [clip for clip in find(session, Project, project_id).clips if clip.id in wanted.clips]
        queued = [work for clip in chosen for work in treating.start_on(session, clip, task == "render")]
        return jsonify(works=[work_json(work) for work in queued])


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


@blueprint.get("/works")
def all_works() -> Response:
    """Background work: what waits in its order, then the newest; and the space that is left."""
    with services().session() as session:
        return jsonify(work_list(session, services().files))


@blueprint.post("/works/<int:work_id>/<any(cancel, retry, sooner, later):action>")
def steer_work(work_id: int, action: str) -> Response:
    """Cancel work, try it again, or change its place in the queue."""
    with services().session() as session:
        work: Any = find(session, Work, work_id)
        if action == "cancel":
            works.cancel_work(session, work)
        elif action == "retry":
            work = works.retry_work(session, work)
        else:
            works.move_work(session, work, action == "sooner")
        return jsonify(work_json(work))
