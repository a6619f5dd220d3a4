"""Files for the browser: proxies with range requests, thumbnails, stills, renders and their data."""

from __future__ import annotations

import json
from pathlib import PurePath
from typing import Any

from flask import Blueprint, jsonify, request, send_file
from werkzeug.wrappers import Response

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.errors import NotPossible, NotThere
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_flat, clip_info, clip_times, source_file
from keen_horizon.operations.treating import clip_path, shown_treatment
from keen_horizon.pipeline.flat_things import plane_csv, plane_document
from keen_horizon.pipeline.report import path_csv, path_document, transforms_csv
from keen_horizon.pipeline.still import Look, still_jpeg
from keen_horizon.store.models import Clip, Render
from keen_horizon.web.services import services

blueprint = Blueprint("media", __name__, url_prefix="/media")


KINDS = {
    ".mp4": "video/mp4", ".mov": "video/quicktime", ".mkv": "video/x-matroska", ".webm": "video/webm",
    ".zip": "application/zip",
}  # fmt: skip
TABLES = {"path.csv": path_csv, "transforms.csv": transforms_csv, "corners.csv": plane_csv}


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
    look = _look()
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        info, times, source = clip_info(clip), clip_times(clip, files), source_file(clip, files)
        number = min(max(number, 0), info.frames - 1)
        treatment = path = None
        if "treatment" in request.args:
            treatment = shown_treatment(session, clip, Treatment.from_text(request.args["treatment"]))
            path = clip_path(session, files, clip, treatment)
    return Response(still_jpeg(source, info, times, number, path, treatment, look), mimetype="image/jpeg")


def _look() -> Look:
    """The query's `part` (x,y,width,height at full size) and `mark`."""
    mark = "mark" in request.args
    if "part" not in request.args:
        return Look(mark=mark)
    try:
        x, y, width, height = (int(float(value)) for value in request.args["part"].split(","))
    except ValueError:
        raise NotPossible("A part of a picture is x,y,width,height.") from None
    return Look(part=(x, y, min(max(width, 8), 1024), min(max(height, 8), 1024)), mark=mark)


@blueprint.get("/clips/<int:clip_id>/<any('path.json', 'path.csv', 'transforms.csv'):name>")
def clip_path_file(clip_id: int, name: str) -> Response:
    """The camera path of a treatment (the query's `treatment`, JSON) without rendering it."""
    files = services().files
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        info, times = clip_info(clip), clip_times(clip, files)
        path = clip_path(session, files, clip, Treatment.from_text(request.args.get("treatment", "{}")))
        stem = PurePath(clip.name).stem
    return _path_file(path_document(path, info, times), stem, name)


@blueprint.get("/clips/<int:clip_id>/<any('corners.json', 'corners.csv'):name>")
def corners_file(clip_id: int, name: str) -> Response:
    """The corners of a treatment's flat thing (the query's `treatment`, JSON), as they were followed."""
    treatment = Treatment.from_text(request.args.get("treatment", "{}"))
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        track = clip_flat(session, services().files, clip, treatment)
        if track is None:
            raise NotThere(f"{clip.name}: its flat thing has not been followed through this range yet.")
        document = plane_document(track, treatment, clip_info(clip), clip_times(clip, services().files))
    return _path_file(document, PurePath(clip.name).stem, name)


def _path_file(document: dict[str, Any], stem: str, name: str) -> Response:
    text, kind = (TABLES[name](document), "text/csv") if name in TABLES else (json.dumps(document), "application/json")
    headers = {"Content-Disposition": f'attachment; filename="{stem}_{name}"'}
    return Response(text, mimetype=kind, headers=headers)


def _render(render_id: int) -> tuple[Render, str]:
    with services().session() as session:
        render = find(session, Render, render_id)
        ending = {"plate": "plate", "maps": "maps", "overlay": "over"}.get(render.kind, "steady")
        return render, f"{PurePath(render.clip.name).stem}_{ending}"


@blueprint.get("/renders/<int:render_id>/file")
def render_file(render_id: int) -> Response:
    """The rendered file."""
    render, stem = _render(render_id)
    suffix = PurePath(render.key or "").suffix
    return _stored(render.key, KINDS.get(suffix, "application/octet-stream"), f"{stem}{suffix}")


@blueprint.get("/renders/<int:render_id>/report.json")
def render_report(render_id: int) -> Response:
    """The render's figures."""
    render, _ = _render(render_id)
    return jsonify(render.report)


@blueprint.get("/renders/<int:render_id>/<any('path.json', 'path.csv', 'transforms.csv'):name>")
def render_path(render_id: int, name: str) -> Response:
    """The camera path of a render: as JSON, as a table of matrices, or of 2-D transforms."""
    render, stem = _render(render_id)
    if not render.path_key:
        raise NotThere("This file is not made yet.")
    return _path_file(json.loads(services().files.path(render.path_key).read_text()), stem, name)
