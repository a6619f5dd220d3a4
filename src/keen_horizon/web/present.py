"""Rows as the interface shows them."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.media.probe import NUMBERED, ClipInfo
from keen_horizon.core.media.proxy import THUMBNAILS
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.former import with_present_names
from keen_horizon.jobs.progress import work_json
from keen_horizon.operations.findings import measuring_rate
from keen_horizon.operations.material import clip_info, source_changed
from keen_horizon.operations.treating import render_bytes
from keen_horizon.operations.works import recent_works, waiting_works
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Render, StartingPoint, Version, Work

FORMAT_NAMES = {
    "h264": "H.264", "h265": "H.265", "prores": "ProRes", "vp9": "VP9", "av1": "AV1",
    "png": "PNG pictures", "tiff": "TIFF pictures", "exr": "EXR pictures", "source": "like the source",
}  # fmt: skip


CHANGED = (
    "The file in the folder was replaced or changed since it was prepared. Prepare it anew on the shelf; what was "
    "found in the earlier one is kept."
)


def clip_card(clip: Clip, files: FileStore) -> dict[str, Any]:
    """A clip on the shelf."""
    card: dict[str, Any] = {
        "id": clip.id,
        "name": clip.name,
        "state": str(clip.state),
        "error": clip.error,
        "thumbnails": f"/media/clips/{clip.id}/thumbnails.jpg" if clip.thumbnails_key else None,
        "thumbnail_count": THUMBNAILS,
        "facts": "",
        "notice": None,
        "scan": None,
        "asked": clip.asked,
        "numbered": False,
        "changed": source_changed(clip, files),
        "shake": max((found.facts["shake_percent"] for found in clip.found("measure")), default=None),
        "version": clip.versions[-1].letter if clip.versions else None,
        "renders": sum(1 for render in clip.renders if render.key),
        "work": _current(clip.works),
        "failed": _failure(clip.works),
    }
    if clip.info:
        info = ClipInfo.from_json(clip.info)
        rate = f"{info.usual_rate:.2f}".rstrip("0").rstrip(".")
        card["notice"] = " ".join(info.troubles) or None
        card["numbered"] = info.carried.container == NUMBERED
        card["rate"], card["seconds"] = info.rate, info.duration
        card["scan"] = info.scan_note or ("Whole pictures" if info.may_have_fields else None)
        card["camera"], card["may_be_sphere"] = info.camera, info.may_be_sphere
        card["shape_of_sphere"] = info.may_be_sphere or info.asked.camera != "as found" or info.spherical is not None
        varying = ", varying" if info.variable_rate else ""
        card["facts"] = f"{timecode(info.duration)} · {info.coded.width}×{info.coded.height} · {rate} fps{varying}"
    return card


def clip_detail(clip: Clip, files: FileStore) -> dict[str, Any]:
    """A clip on the bench."""
    info = clip_info(clip)
    return {
        "id": clip.id,
        "name": clip.name,
        "project": {"id": clip.project_id, "name": clip.project.name},
        "info": {
            "frames": info.frames,
            "rate": info.rate,
            "width": info.display.width,
            "height": info.display.height,
            "codec": info.codec,
            "bit_depth": info.bit_depth,
            "sound": info.sound,
            "variable_rate": info.variable_rate,
            "notice": CHANGED if source_changed(clip, files) else " ".join(info.troubles) or None,
            "scan": info.scan_note,
            "across": sphere_of(info.display).across if info.camera == "sphere" else None,
            "timecode": _timecode(info),
        },
        "proxy": {**(clip.proxy or {}), "url": f"/media/clips/{clip.id}/proxy.mp4"},
        "draft": _current_document(clip.draft),
        "measured": [[found.first, found.last] for found in clip.found("measure")],
        "measured_finer": [[found.first, found.last] for found in clip.found("measure") if found.facts.get("finer")],
        "measuring_rate": measuring_rate(clip),
        "pins": [
            {"marks": found.facts["marks"], "first": found.first, "last": found.last, "lost": found.facts["lost"]}
            for found in clip.found("pin")
        ],
        "found_falloff": next((found.facts for found in reversed(clip.found("falloff"))), None),
        "found_fringe": next((found.facts for found in reversed(clip.found("fringe"))), None),
        "found_lens": _found_lens(clip),
        "versions": [version_json(version) for version in clip.versions],
        "renders": [render_json(render) for render in clip.renders if render.key],
        "works": [work_json(work) for work in clip.works[-8:]],
    }


def _found_lens(clip: Clip) -> dict[str, Any] | None:
    """What the clip told of its lens last, in whichever of its ranges it told one."""
    found = [finding.facts for finding in reversed(clip.found("lens"))]
    return next((facts for facts in found if facts["lens"]), found[0] if found else None)


def _timecode(info: ClipInfo) -> dict[str, Any] | None:
    """How the bench counts: frames to a second, and the number that is shown at frame 0 and wherever numbers are
    left out, so that it only has to count on.
    """
    start = info.timecode
    if start is None:
        return None
    return {"nominal": start.nominal, "drop": start.drop, "starts": start.starts(info.frames)}


def version_json(version: Version) -> dict[str, Any]:
    """A saved version."""
    return {
        "letter": version.letter,
        "zoom": version.zoom,
        "person": version.person,
        "treatment": _current_document(version.treatment),
    }


def render_json(render: Render) -> dict[str, Any]:
    """A finished render."""
    base = f"/media/renders/{render.id}"
    return {
        "id": render.id,
        "report": render.report,
        "file": f"{base}/file",
        "what": _what(render),
        "path": render.path_key is not None,
        "path_json": f"{base}/path.json",
        "path_csv": f"{base}/path.csv",
        "transforms_csv": f"{base}/transforms.csv",
        "report_json": f"{base}/report.json",
    }


def work_row(work: Work) -> dict[str, Any]:
    """A piece of work on the jobs page."""
    row = {**work_json(work), "clip_name": work.clip.name, "ready": work.clip.info is not None, "needs": 0,
           "person": work.person, "stopped_by": work.stopped_by}  # fmt: skip
    if work.render and work.clip.info:
        row |= {"what": _what(work.render), "needs": render_bytes(work.render) if work.state.open else 0}
    return row


def work_list(session: Session, files: FileStore) -> dict[str, Any]:
    """Waiting work in its order, then all the rest, newest first; with the bytes it needs and those left."""
    waiting = waiting_works(session)
    known = {work.id for work in waiting}
    works = [*waiting, *(work for work in recent_works(session) if work.id not in known)]
    return {"works": [work_row(work) for work in works], "free": files.free_bytes()}


def starting_json(point: StartingPoint) -> dict[str, Any]:
    """A starting point."""
    settings = with_present_names(point.settings)
    return {"id": point.id, "name": point.name, "settings": settings, "shipped": point.shipped,
            "is_default": point.is_default}  # fmt: skip


def _what(render: Render) -> str:
    """What a render writes, in a few words."""
    output = Treatment.from_json(render.treatment).output
    if render.kind == "maps":
        return "ST maps, EXR and TIFF, ZIP"
    ahead = {"plate": "straight plate, ", "overlay": f"{(render.graphics or {}).get('name')} bent back, "}
    against = {"side": ", side by side", "wipe": ", wiped"}[render.versus["layout"]] if render.versus else ""
    return f"{ahead.get(render.kind, '')}{FORMAT_NAMES[output.codec]}, {output.container.upper()}{against}"


def _current_document(stored: dict[str, Any] | None) -> dict[str, Any]:
    """A stored treatment with every key of today: documents written before a key existed lack it."""
    return Treatment.from_json(stored or {}).to_json()


def timecode(seconds: float) -> str:
    """Minutes and seconds, with hours where needed."""
    whole = round(seconds)
    hours, minutes, rest = whole // 3600, whole // 60 % 60, whole % 60
    return f"{hours}:{minutes:02}:{rest:02}" if hours else f"{minutes}:{rest:02}"


def _current(works: list[Work]) -> dict[str, Any] | None:
    return next((work_json(work) for work in reversed(works) if work.state.open), None)


def _failure(works: list[Work]) -> dict[str, Any] | None:
    if works and works[-1].state == "failed" and works[-1].kind != "ingest":
        return work_json(works[-1])
    return None
