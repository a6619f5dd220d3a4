"""Receiving files in pieces: what is announced, and each piece with its sender's digest."""

from __future__ import annotations

import re
from base64 import b64decode

from flask import Blueprint, jsonify, request
from pydantic import Field
from werkzeug.wrappers import Response

from keen_horizon.operations import uploads
from keen_horizon.operations.errors import NotPossible
from keen_horizon.web.bodies import Body, body
from keen_horizon.web.services import services

blueprint = Blueprint("receiving", __name__, url_prefix="/api")


class NewUpload(Body):
    """A file about to be sent; `modified` (ms) helps to find an earlier attempt, `digest` is its SHA-256 if known."""

    name: str
    size: int = Field(le=1 << 62)
    modified: int = Field(default=0, ge=-(1 << 53), le=1 << 53)
    digest: str | None = Field(default=None, pattern="^[0-9a-f]{64}$")


@blueprint.post("/projects/<int:project_id>/uploads")
def begin_upload(project_id: int) -> Response:
    """Announce a file; says how much of it is here already, and the clip where all of it is."""
    wanted = body(NewUpload)
    with services().session() as session:
        files = services().files
        upload = uploads.begin_upload(
            session, files, project_id, wanted.name, wanted.size, wanted.modified, wanted.digest
        )
        return jsonify(id=upload.id, received=upload.received, clip=upload.clip_id)


@blueprint.put("/uploads/<int:upload_id>/<int:offset>")
def send_piece(upload_id: int, offset: int) -> Response:
    """Send the piece that starts at an offset; the last one makes the clip.

    A `Content-Digest` (RFC 9530, sha-256) is compared with what arrived.
    """
    here, piece = services(), request.get_data()
    received, clip = uploads.receive(here.session, here.files, upload_id, offset, piece, _sent_digest())
    return jsonify(received=received, clip=clip)


def _sent_digest() -> str | None:
    """The SHA-256 that the sender gave of the body, hex. Raises NotPossible."""
    header = request.headers.get("Content-Digest", "")
    given = re.search(r"(?:^|,)\s*sha-256=:([A-Za-z0-9+/=]+):", header)
    try:
        return b64decode(given[1], validate=True).hex() if given else None
    except ValueError:
        raise NotPossible("The digest that was sent with this piece cannot be read.") from None
