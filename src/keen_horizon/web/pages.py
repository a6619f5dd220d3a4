"""The pages: shelf, bench, jobs, about."""

from __future__ import annotations

from pathlib import Path

from flask import Blueprint, redirect, render_template, request, url_for
from sqlalchemy import select
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.figures import FIGURES
from keen_horizon.operations.clips import media_files
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info
from keen_horizon.operations.solving import asked, solution_of
from keen_horizon.operations.treating import chosen_treatment
from keen_horizon.store.models import Clip, ClipState, Project
from keen_horizon.web.present import clip_card, clip_detail, work_list
from keen_horizon.web.report import clip_report
from keen_horizon.web.services import services

blueprint = Blueprint("pages", __name__)
VENDOR = Path(__file__).with_name("static") / "vendor"


@blueprint.get("/")
def home() -> Response | str:
    """The newest project's shelf, or the empty state."""
    with services().session() as session:
        project = session.scalar(select(Project).order_by(Project.id.desc()).limit(1))
    if project is None:
        return render_template("welcome.html")
    return redirect(url_for("pages.shelf", project_id=project.id))


@blueprint.get("/projects/<int:project_id>")
def shelf(project_id: int) -> str:
    """A project's clips."""
    with services().session() as session:
        project = find(session, Project, project_id)
        projects = [(p.id, p.name) for p in session.scalars(select(Project).order_by(Project.name))]
        page = {
            "project": project.id,
            "measures_itself": project.measures_itself,
            "clips": [clip_card(clip, services().files) for clip in project.clips],
            "media": media_files(services().settings.media),
        }
        return render_template("shelf.html", project=project, projects=projects, page=page)


@blueprint.get("/clips/<int:clip_id>")
def bench(clip_id: int) -> str:
    """The bench of one clip."""
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if clip.state is not ClipState.READY:
            raise NotPossible(f"{clip.name} is not ready yet. Wait for it on the shelf.")
        shows = "sphere" if clip_info(clip).camera == "sphere" else "bench"
        page = clip_detail(clip, services().files) | {"figures": FIGURES}
        return render_template(f"{shows}.html", clip=clip, page=page)


@blueprint.get("/clips/<int:clip_id>/report")
def report(clip_id: int) -> str:
    """One page about a clip to print: figures, charts, pictures before and after."""
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        letter = request.args.get("version", "")
        treatment = chosen_treatment(clip, letter or "draft")
        solution = solution_of(asked(session, files, clip, treatment)).to_json()
        pinches = solution.get("pinches")  # a sphere has none
        worst = pinches[0]["frame"] if pinches else solution["first"]
        frame = request.args.get("frame", worst, type=int)
        page = clip_report(
            clip,
            treatment,
            letter or "draft",
            solution,
            min(max(frame, solution["first"]), solution["first"] + solution["frames"] - 1),
        )
        return render_template("report.html", clip=clip, letter=letter, report=page)


@blueprint.get("/jobs")
def jobs() -> str:
    """Background work, newest first."""
    with services().session() as session:
        page = work_list(session, services().files)
        return render_template("jobs.html", page=page)


@blueprint.get("/about")
def about() -> str:
    """Licences of what ships with the application."""
    licences = [(path.parent.name, path.read_text()) for path in sorted(VENDOR.glob("*/LICENSE*"))]
    return render_template("about.html", licences=licences)
