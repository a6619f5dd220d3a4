"""The JSON API that the pages use. Bodies are checked by pydantic; errors come as {"error": text}."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any, BinaryIO, Literal, cast

from flask import Blueprint, jsonify, request
from pydantic import BaseModel, ConfigDict, Field
from werkzeug.wrappers import Response

from keen_horizon.core.starting_points import started
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import clips, starting, treating, uploads, works
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Clip, Project, StartingPoint, Upload, Work
from keen_horizon.web.present import clip_card, clip_detail, starting_json, version_json, work_list
from keen_horizon.web.services import services

blueprint = Blueprint("api", __name__, url_prefix="/api")


class Body(BaseModel):
    """What a request carries: unknown keys are errors."""

    model_config = ConfigDict(extra="forbid")


class NewProject(Body):
    """A project to start."""

    name: str


class NewUpload(Body):
    """A file about to be sent; `modified` (ms) helps to find an earlier attempt."""

    name: str
    size: int
    modified: int = 0


class MediaFile(Body):
    """A file of the media folder, by relative name."""

    path: str = Field(min_length=1)


class WantedShake(Body):
    """How much shake may remain under a treatment, percent of the width a frame squared."""

    treatment: Treatment
    shake_percent: float = Field(gt=0)


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
    clips: list[int] = Field(min_length=1)
    render: bool = False


class SomeClips(Body):
    """Clips by number."""

    clips: list[int] = Field(min_length=1)


class NewStartingPoint(Body):
    """A name for the settings of a treatment."""

    name: str
    treatment: Treatment


def posted_treatment() -> Treatment:
    """The treatment that a request carries. Raises TreatmentError."""
    return Treatment.from_json(request.get_json(silent=True))


@blueprint.post("/projects")
def new_project() -> Response:
    """Start a project."""
    body = NewProject.model_validate(request.get_json(silent=True))
    with services().session() as session:
        return jsonify(id=clips.new_project(session, body.name).id)


@blueprint.get("/projects/<int:project_id>/clips")
def shelf_clips(project_id: int) -> Response:
    """The cards of a project."""
    with services().session() as session:
        return jsonify([clip_card(clip) for clip in find(session, Project, project_id).clips])


@blueprint.post("/projects/<int:project_id>/media")
def register(project_id: int) -> Response:
    """Use a file of the media folder without copying it."""
    body = MediaFile.model_validate(request.get_json(silent=True))
    with services().session() as session:
        clip = clips.register_from_folder(session, project_id, services().settings.media, body.path)
        return jsonify(clip_card(clip))


@blueprint.post("/projects/<int:project_id>/uploads")
def begin_upload(project_id: int) -> Response:
    """Announce a file; says how much of it is here already."""
    body = NewUpload.model_validate(request.get_json(silent=True))
    with services().session() as session:
        files = services().files
        upload = uploads.begin_upload(session, files, project_id, body.name, body.size, body.modified)
        return jsonify(id=upload.id, received=uploads.received_bytes(files, upload))


@blueprint.put("/uploads/<int:upload_id>/<int:offset>")
def send_piece(upload_id: int, offset: int) -> Response:
    """Send the piece that starts at an offset; the last one makes the clip."""
    files = services().files
    with services().session() as session:
        upload = find(session, Upload, upload_id)
        received = uploads.receive(files, upload, offset, cast(BinaryIO, request.stream))
        if received < upload.size:
            return jsonify(received=received)
        clip = clips.clip_from_upload(session, files, upload)
        return jsonify(received=received, clip=clip.id)


@blueprint.get("/clips/<int:clip_id>")
def clip(clip_id: int) -> Response:
    """Everything about a clip."""
    with services().session() as session:
        return jsonify(clip_detail(find(session, Clip, clip_id)))


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
    """Measure the treatment's range."""
    treatment = posted_treatment()
    with services().session() as session:
        work = treating.request_measurement(session, find(session, Clip, clip_id), treatment)
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
    """Solve for a treatment, from the stored measurement."""
    treatment = posted_treatment()
    with services().session() as session:
        solution = treating.solve_clip(session, services().files, find(session, Clip, clip_id), treatment)
    return jsonify(solution.to_json())


@blueprint.post("/clips/<int:clip_id>/trade-off")
def trade_off(clip_id: int) -> Response:
    """The curve of zoom against remaining shake; a newer question of the same `asker` ends the computing."""
    treatment = posted_treatment()
    outdated = services().curves.ask((clip_id, request.args.get("asker", "")))
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        curve = treating.clip_trade_off(session, services().files, clip, treatment, outdated)
    return jsonify([asdict(point) for point in curve])


@blueprint.post("/clips/<int:clip_id>/smallest-zoom")
def smallest_zoom(clip_id: int) -> Response:
    """The smallest zoom limit that leaves no more than the wanted shake."""
    body = WantedShake.model_validate(request.get_json(silent=True))
    with services().session() as session:
        found = find(session, Clip, clip_id)
        files = services().files
        point = treating.clip_smallest_zoom(session, files, found, body.treatment, body.shake_percent)
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
    body = ComparisonWanted.model_validate(request.get_json(silent=True))
    other = body.against.to_json() if body.against else None
    versus = {"treatment": other, "layout": body.layout, "place": body.place, "turn": body.turn}
    with services().session() as session:
        queued = treating.request_render(session, find(session, Clip, clip_id), body.treatment, versus)
        return jsonify(works=[work_json(work) for work in queued])


@blueprint.post("/clips/<int:clip_id>/copies")
def copy_treatment(clip_id: int) -> Response:
    """Give a treatment to other clips, have them measured, and rendered if wanted."""
    body = CopyWanted.model_validate(request.get_json(silent=True))
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        changed = starting.copy_treatment(session, clip, body.treatment, body.clips)
        queued = [work for other in changed for work in treating.start_on(session, other, body.render)]
        return jsonify(clips=[other.id for other in changed], works=[work_json(work) for work in queued])


@blueprint.post("/projects/<int:project_id>/<any(measure, render):task>")
def start_on_clips(project_id: int, task: str) -> Response:
    """Measure or render several clips, each with the treatment it has."""
    body = SomeClips.model_validate(request.get_json(silent=True))
    with services().session() as session:
        chosen = [clip for clip in find(session, Project, project_id).clips if clip.id in body.clips]
        queued = [work for clip in chosen for work in treating.start_on(session, clip, task == "render")]
        return jsonify(works=[work_json(work) for work in queued])


@blueprint.get("/starting-points")
def list_starting_points() -> Response:
    """Named sets of settings."""
    with services().session() as session:
        return jsonify([starting_json(point) for point in starting.starting_points(session)])


@blueprint.post("/starting-points")
def save_starting_point() -> Response:
    """Keep a treatment's settings under a name."""
    body = NewStartingPoint.model_validate(request.get_json(silent=True))
    with services().session() as session:
        return jsonify(starting_json(starting.save_starting_point(session, body.name, body.treatment)))


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
