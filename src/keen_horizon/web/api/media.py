"""Files for the browser: proxies with range requests, thumbnails, renders and their data."""

from __future__ import annotations

import json
from pathlib import PurePath

from flask import Blueprint, jsonify, send_file
from werkzeug.wrappers import Response

from keen_horizon.operations.errors import NotThere
from keen_horizon.operations.lookup import find
from keen_horizon.operations.names import kept_name
from keen_horizon.operations.treating import render_name
from keen_horizon.store.models import Clip, Render
from keen_horizon.web.downloads import data_file
from keen_horizon.web.services import services

blueprint = Blueprint("media", __name__, url_prefix="/media")


KINDS = {
    ".mp4": "video/mp4", ".mov": "video/quicktime", ".mkv": "video/x-matroska", ".webm": "video/webm",
    ".zip": "application/zip",
}  # fmt: skip


def _stored(key: str | None, kind: str, name: str | None = None) -> Response:
    if not key:
        raise NotThere("This file is not made yet.")
    path = services().files.path(key)
    if not path.exists():
        raise NotThere("This file is gone; make it again.")
    return send_file(
        path,
        mimetype=kind,
        conditional=True,
        max_age=3600,
        as_attachment=name is not None,
        download_name=name and kept_name(name),
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


def _render(render_id: int) -> tuple[Render, str]:
    with services().session() as session:
        render = find(session, Render, render_id)
        return render, render_name(render)


@blueprint.get("/renders/<int:render_id>/file")
def render_file(render_id: int) -> Response:
    """The rendered file."""
    render, name = _render(render_id)
    return _stored(render.key, KINDS.get(PurePath(name).suffix, "application/octet-stream"), name)


@blueprint.get("/renders/<int:render_id>/report.json")
def render_report(render_id: int) -> Response:
    """The render's figures."""
    render, _ = _render(render_id)
    return jsonify(render.report)


@blueprint.get("/renders/<int:render_id>/<any('path.json', 'path.csv', 'transforms.csv'):name>")
def render_path(render_id: int, name: str) -> Response:
    """The camera path of a render: as JSON, as a table of matrices, or of 2-D transforms."""
    render, file_name = _render(render_id)
    if not render.path_key:
        raise NotThere("This file is not made yet.")
    return data_file(json.loads(services().files.path(render.path_key).read_text()), PurePath(file_name).stem, name)
