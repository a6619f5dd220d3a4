"""The part of the JSON API that has to do with edits: bringing one in, how far it is, handing it back."""

from __future__ import annotations

from pathlib import PurePath

from flask import Blueprint, jsonify, request
from werkzeug.wrappers import Response

from keen_horizon.core.exchange.edits import LARGEST, Use, edit_text, read_edit, with_files
from keen_horizon.operations import edits
from keen_horizon.operations.lookup import find
from keen_horizon.store.models import Edit, Project
from keen_horizon.web.downloads import attached
from keen_horizon.web.services import services

blueprint = Blueprint("edits", __name__, url_prefix="/api")


@blueprint.post("/projects/<int:project_id>/edits/<name>")
def bring(project_id: int, name: str) -> Response:
    """Bring in an edit, the body: its clips get the ranges that it uses."""
    request.max_content_length = LARGEST
    text = edit_text(request.get_data(), name)
    uses = _uses(text, name)
    media = services().settings.media
    with services().session() as session:
        edit = edits.bring_edit(session, services().files, media, project_id, name, text, uses)
        return jsonify(_facts(edit, uses))


@blueprint.get("/projects/<int:project_id>/edits")
def listed(project_id: int) -> Response:
    """A project's edits and how far they are."""
    with services().session() as session:
        kept = [(edit.id, edit.document, edit.name) for edit in find(session, Project, project_id).edits]
    uses = {number: _uses(text, name) for number, text, name in kept}
    with services().session() as session:
        return jsonify([_facts(find(session, Edit, number), uses[number]) for number, _, _ in kept])


@blueprint.get("/edits/<int:edit_id>/file")
def handed_back(edit_id: int) -> Response:
    """The edit with the newest renders of what it uses in place of the originals."""
    with services().session() as session:
        edit = find(session, Edit, edit_id)
        text, name = edit.document, edit.name
    uses, files = _uses(text, name), services().files
    with services().session() as session:
        edit = find(session, Edit, edit_id)
        replaced = edits.corrected_files(edit, edits.linked(edit, uses, files), files)
    corrected = services().apart.call(name, with_files, text, name, replaced)
    return attached(corrected, "application/json", f"{PurePath(name).stem}_corrected.otio")


@blueprint.delete("/edits/<int:edit_id>")
def remove(edit_id: int) -> Response:
    """Take an edit away; its clips stay."""
    with services().session() as session:
        session.delete(find(session, Edit, edit_id))
    return jsonify({})


def _uses(text: str, name: str) -> tuple[Use, ...]:
    """What an edit uses, read where a stranger's document can do no harm."""
    uses: tuple[Use, ...] = services().apart.call(name, read_edit, text, name)
    return uses


def _facts(edit: Edit, uses: tuple[Use, ...]) -> dict[str, object]:
    files = services().files
    found = edits.linked(edit, uses, files)
    return edits.edit_facts(edit, found, edits.corrected_files(edit, found, files))
