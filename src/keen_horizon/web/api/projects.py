"""Projects: their clips and files, and what is started on several clips at once."""

from __future__ import annotations

from flask import Blueprint, jsonify
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import clips, treating
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Project
from keen_horizon.web.bodies import Body, SomeClips, body
from keen_horizon.web.present import clip_card
from keen_horizon.web.services import services

blueprint = Blueprint("projects", __name__, url_prefix="/api")


class NewProject(Body):
    """A project to start."""

    name: str
    measures_itself: bool = False


class MediaFile(Body):
    """A file of the media folder, by relative name."""

    path: str = Field(min_length=1)


class MeasuresItself(Body):
    """Whether a project's clips are measured as they arrive."""

    wanted: bool


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


@blueprint.post("/projects/<int:project_id>/<any(measure, render):task>")
def start_on_clips(project_id: int, task: str) -> Response:
    """Measure or render several clips, each with the treatment it has."""
    wanted = body(SomeClips)
    with services().session() as session:
        chosen = [clip for clip in find(session, Project, project_id).clips if clip.id in wanted.clips]
        queued = [work for clip in chosen for work in treating.start_on(session, clip, task == "render")]
        return jsonify(works=[work_json(work) for work in queued])
