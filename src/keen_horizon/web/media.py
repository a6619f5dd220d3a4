"""Files for the browser: proxies with range requests, thumbnails, stills, renders and their data."""

from __future__ import annotations

import json
from pathlib import PurePath

from flask import Blueprint, jsonify, request, send_file
from werkzeug.wrappers import Response

from keen_horizon.core.treatment import Treatment
from keen_horizon.operations.errors import NotThere
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info, clip_measurement, clip_times, source_file
from keen_horizon.pipeline.report import path_csv
from keen_horizon.pipeline.still import still_jpeg
from keen_horizon.store.models import Clip, Render
from keen_horizon.web.services import services

blueprint = Blueprint("media", __name__, url_prefix="/media")


def _stored(key: str | None, kind: str, name: str | None = None) -> Response:
    if not key:
        raise NotThere("This file is not made yet.")
    path = services().files.path(key)
    if not path.exists():
        raise NotThere("This file is gone; make it again.")
    return send_file(
        path, mimetype=kind, conditional=True, max_age=3600, as_attachment=name is not None, download_name=name
    )


@blueprint.get("/clips/<int:clip_id>/proxy.mp4")
def proxy(clip_id: int) -> Response:
    """The light copy that the viewer plays."""
    with services().session() as session:
        return _stored(find(session, Clip, clip_id).proxy_key, "video/mp4")


@blueprint.get("/clips/<int:clip_id>/thumbnails.jpg")
def thumbnails(clip_id: int) -> Response:
    """The strip of thumbnails."""
    with services().session() as session:
        return _stored(find(session, Clip, clip_id).thumbnails_key, "image/jpeg")


@blueprint.get("/clips/<int:clip_id>/still.jpg")
def still(clip_id: int) -> Response:
    """One exact frame, as shot or through a treatment (the query's `treatment`, JSON)."""
    number = request.args.get("frame", 0, type=int)
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        info, times, source = clip_info(clip), clip_times(clip, files), source_file(clip, files)
        number = min(max(number, 0), info.frames - 1)
        treatment = measurement = None
        if "treatment" in request.args:
            treatment = Treatment.from_text(request.args["treatment"])
            measurement = clip_measurement(session, files, clip, treatment)
    return Response(still_jpeg(source, info, times, number, measurement, treatment), mimetype="image/jpeg")


def _render(render_id: int) -> tuple[Render, str]:
    with services().session() as session:
        render = find(session, Render, render_id)
        return render, f"{PurePath(render.clip.name).stem}_steady"


@blueprint.get("/renders/<int:render_id>/file.mp4")
def render_file(render_id: int) -> Response:
    """The rendered file."""
    render, stem = _render(render_id)
    return _stored(render.key, "video/mp4", f"{stem}.mp4")


@blueprint.get("/renders/<int:render_id>/report.json")
def render_report(render_id: int) -> Response:
    """The render's figures."""
    render, _ = _render(render_id)
    return jsonify(render.report)


@blueprint.get("/renders/<int:render_id>/path.json")
def render_path(render_id: int) -> Response:
    """The camera path as JSON."""
    render, stem = _render(render_id)
    return _stored(render.path_key, "application/json", f"{stem}_path.json")


@blueprint.get("/renders/<int:render_id>/path.csv")
def render_path_csv(render_id: int) -> Response:
    """The camera path as CSV."""
    render, stem = _render(render_id)
    if not render.path_key:
        raise NotThere("This file is not made yet.")
    text = path_csv(json.loads(services().files.path(render.path_key).read_text()))
    headers = {"Content-Disposition": f'attachment; filename="{stem}_path.csv"'}
    return Response(text, mimetype="text/csv", headers=headers)
