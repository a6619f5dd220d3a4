"""Lens profiles: their page, their part of the JSON API, and their files."""

from __future__ import annotations

from typing import Any, Literal

from flask import Blueprint, jsonify, render_template, request
from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.wrappers import Response

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.glass.shutter import FURTHEST
from keen_horizon.core.lens.board import board_svg
from keen_horizon.core.lens.calibration import LEAST_ACROSS, Board
from keen_horizon.core.lens.exchange.files import FORMS, LARGEST, left_out, read_profile, write_profile
from keen_horizon.core.lens.lens import fields_of_view
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.lens.profile import Profile
from keen_horizon.core.treatment.optics import (
    LONGEST_FOCAL,
    SHORTEST_FOCAL,
    FalloffSettings,
    FringeSettings,
    LensSettings,
)
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations import profiles
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info
from keen_horizon.operations.names import kept_name
from keen_horizon.store.models import Clip, ClipState, StoredProfile
from keen_horizon.web.bodies import Body, RowNumber, SomeClips, body, document
from keen_horizon.web.downloads import attached
from keen_horizon.web.services import services

blueprint = Blueprint("profiles", __name__)


class NewProfile(Body):
    """A name for the lens of a clip."""

    name: str
    clip: RowNumber
    lens: LensSettings
    focal: float | None = Field(default=None, ge=SHORTEST_FOCAL, le=LONGEST_FOCAL)
    readout: float | None = Field(default=None, ge=-FURTHEST, le=FURTHEST)
    falloff: FalloffSettings | None = None
    fringe: FringeSettings | None = None


class WantedBoard(Body):
    """A printed board: a chessboard's inner corners, or a grid's dots."""

    kind: Literal["chessboard", "dots"] = "chessboard"
    across: int = Field(default=9, ge=LEAST_ACROSS, le=40)
    down: int = Field(default=6, ge=LEAST_ACROSS, le=40)


class WantedCalibration(Body):
    """A clip of a board, and what the lens shall be called."""

    board: WantedBoard
    clip: RowNumber
    name: str


@blueprint.get("/lenses")
def page() -> str:
    """The lens profiles, and the clips they can be given to."""
    with services().session() as session:
        ready = session.scalars(select(Clip).where(Clip.state == ClipState.READY).order_by(Clip.project_id, Clip.id))
        content = {
            "profiles": _all(session),
            "clips": [_clip_row(clip) for clip in ready],
            "forms": [{"value": form, "label": label} for form, label in FORMS.items()],
        }
        return render_template("lenses.html", page=content)


@blueprint.get("/api/lens-profiles")
def list_profiles() -> Response:
    """All profiles."""
    with services().session() as session:
        return jsonify(_all(session))


@blueprint.post("/api/lens-profiles")
def save() -> Response:
    """Keep a clip's lens under a name."""
    wanted = body(NewProfile)
    with services().session() as session:
        profiles.save_profile(
            session, find(session, Clip, wanted.clip), wanted.name, wanted.lens, focal=wanted.focal,
            readout=wanted.readout, falloff=wanted.falloff, fringe=wanted.fringe,
        )  # fmt: skip
        return jsonify(_all(session))


@blueprint.post("/api/lens-profiles/files/<name>")
def bring_in(name: str) -> Response:
    """Read a lens file of any known form, sent as the wanted."""
    name = kept_name(name)
    data = request.stream.read(LARGEST + 1)
    profile = services().apart.call(name, read_profile, data, name)
    with services().session() as session:
        profiles.import_profile(session, profile)
        return jsonify(_all(session))


@blueprint.post("/api/lens-profiles/boards")
def calibrate() -> Response:
    """Queue finding a lens by a board that a clip films."""
    wanted = body(WantedCalibration)
    with services().session() as session:
        clip = find(session, Clip, wanted.clip)
        work = profiles.request_calibration(session, clip, Board(**wanted.board.model_dump()), wanted.name)
        return jsonify(work=work_json(work))


@blueprint.get("/media/board.svg")
def board() -> Response:
    """The board to print."""
    wanted = WantedBoard.model_validate(dict(request.args))
    drawing = board_svg(Board(**wanted.model_dump()))
    headers = {"Content-Disposition": f'inline; filename="{wanted.kind}_{wanted.across}x{wanted.down}.svg"'}
    return Response(drawing, mimetype="image/svg+xml", headers=headers)


@blueprint.put("/api/lens-profiles/<int:profile_id>")
def change(profile_id: int) -> Response:
    """Put another document in a profile's place."""
    profile = Profile.from_json(document())
    with services().session() as session:
        profiles.change_profile(session, find(session, StoredProfile, profile_id), profile)
        return jsonify(_all(session))


@blueprint.delete("/api/lens-profiles/<int:profile_id>")
def remove(profile_id: int) -> Response:
    """Forget a profile of one's own."""
    with services().session() as session:
        profiles.remove_profile(session, find(session, StoredProfile, profile_id))
        session.flush()
        return jsonify(_all(session))


@blueprint.post("/api/lens-profiles/<int:profile_id>/apply")
def apply(profile_id: int) -> Response:
    """Give a profile's lens to clips."""
    wanted = body(SomeClips)
    with services().session() as session:
        changed = profiles.apply_profile(session, find(session, StoredProfile, profile_id), wanted.clips)
        return jsonify(clips=[_clip_row(clip) for clip in changed])


@blueprint.get("/media/lens-profiles/<int:profile_id>/<form>")
def profile_file(profile_id: int, form: str) -> Response:
    """A profile as a file in one of the forms."""
    if form not in FORMS:
        raise NotPossible(f"A profile is written as {', '.join(FORMS)}.")
    with services().session() as session:
        stored = find(session, StoredProfile, profile_id)
        text = write_profile(Profile.from_json(stored.document), form)
        stem = "".join(c if c.isalnum() else "_" for c in stored.name)
    kind = {"json": "application/json", "xml": "application/xml"}.get(form.rpartition(".")[2], "application/yaml")
    return attached(text, kind, f"{stem}.{form}")


def _all(session: Session) -> list[dict[str, Any]]:
    return [_profile_row(stored) for stored in profiles.profiles(session)]


def _profile_row(stored: StoredProfile) -> dict[str, Any]:
    profile = Profile.from_json(stored.document)
    fields = fields_of_view(lens_of(profile.lens), profile.size, profile.focal)
    return {
        "id": stored.id,
        "shipped": stored.shipped,
        "document": stored.document,
        "family": FAMILIES[profile.lens.family].title if profile.lens.bends else "none",
        "field_of_view": fields[2] if fields else None,
        "left_out": {form: left_out(profile, form) for form in FORMS},
    }


def _clip_row(clip: Clip) -> dict[str, Any]:
    size = clip_info(clip).display
    lens = (clip.draft or {}).get("optics", {}).get("lens")
    return {
        "id": clip.id,
        "name": clip.name,
        "project": clip.project.name,
        "width": size.width,
        "height": size.height,
        "lens": FAMILIES[lens["family"]].title if lens else None,
    }
