"""The demo project: its clips, each with a saved version that shows what it is there for."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.found import with_colours, with_dead_edge, with_light
from keen_horizon.operations.clips import new_project, next_letter, register_clip
from keen_horizon.operations.findings import FALLOFF, MOTION, covering
from keen_horizon.operations.material import clip_info
from keen_horizon.operations.treating import request_glass
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Project, Version

NAME = "Port Merrow: boat week"
SHOWN: dict[str, dict[str, Any]] = {
    "quay_walk_01": {"motion": {"intent": "glide", "response_s": 1.2}},
    "roofs_drone_02": {"motion": {"intent": "hold"}},
    "dinghy_03": {
        "optics": {"lens": {"family": "equidistant", "coefficients": [1.815]}},
        "motion": {"intent": "hold"},
        "edges": {"zoom_limit": 1.25},
    },
    "lighthouse_04": {"motion": {"intent": "glide"}, "edges": {"zoom_limit": 1.3}},
    "mast_05": {
        "motion": {"intent": "level", "response_s": 1.5},
        "view": {
            "output": "flat",
            "size": {"width": 960, "height": 540},
            "keys": [
                {"frame": 0, "yaw_deg": -62, "pitch_deg": -3, "field_deg": 84},
                {"frame": 60, "yaw_deg": -25, "pitch_deg": -2, "field_deg": 84},
                {"frame": 150, "yaw_deg": 52, "pitch_deg": 4, "field_deg": 56},
            ],
        },
    },
}  # a walk that glides, a drone whose rows are put right, a wide lens behind which the camera is turned, dark corners,
# and from the mast a view of the sphere that goes from the harbour mouth to the lighthouse
BELIEVED_PX = 0.3  # at the corner, by which shown fringes may be off
THROUGH_GLASS = "lighthouse_04"  # the clip whose glass is measured, too


def demo_project(session: Session, files: FileStore, clips: Sequence[Path]) -> Project:
    """Start the project with files that lie there; they are prepared and measured as any others."""
    project = new_project(session, NAME, measures_itself=True)
    for path in clips:
        clip = register_clip(session, files, project.id, path)
        document = Treatment.from_json(SHOWN.get(path.stem, {})).to_json()
        clip.draft = document
        clip.versions.append(Version(letter=next_letter(clip.versions), treatment=document))
    return project


def measure_demo_glass(session: Session) -> None:
    """Queue measuring what the glass does to the light and the colours of one of the demo's clips."""
    clip = _through_glass(session)
    if clip is not None and covering(session, clip, MOTION, 0, clip_info(clip).frames - 1) is not None:
        request_glass(session, clip, Treatment.from_json(clip.draft or {}), FALLOFF)  # colours are told along with it


def show_demo_glass(session: Session) -> None:
    """Put what was measured into that clip's treatment and its saved version, unless somebody changed it meanwhile."""
    clip = _through_glass(session)
    told = {kind: next((row.facts for row in clip.found(kind)), None) for kind in ("falloff", "fringe")} if clip else {}
    if clip is None or None in told.values() or clip.draft != clip.versions[0].treatment:
        return
    treatment = Treatment.from_json(clip.draft or {})
    falloff = with_light(None, told["falloff"])
    if told["falloff"]["dead"]:
        falloff = with_dead_edge(falloff, told["falloff"]["dead"])
    half = clip_info(clip).display.half_diagonal
    known = half * max(told["fringe"]["doubts"]) <= BELIEVED_PX
    fringe = with_colours(None, told["fringe"]) if known else None
    optics = treatment.optics.model_copy(update={"falloff": falloff, "fringe": fringe})
    document = treatment.model_copy(update={"optics": optics}).to_json()
    clip.draft = document
    clip.versions[0].treatment = document


def _through_glass(session: Session) -> Clip | None:
    return session.scalar(select(Clip).where(Clip.name.startswith(THROUGH_GLASS)))
