"""The demo project: its clips, each with a saved version that shows what it is there for."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.clips import new_project, next_letter, register_clip
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Project, Version

NAME = "Port Merrow: boat week"
SHOWN: dict[str, dict[str, Any]] = {
    "quay_walk_01": {"motion": {"intent": "glide", "response_s": 1.2}},
    "roofs_drone_02": {"motion": {"intent": "hold"}},
    "dinghy_03": {
        "optics": {"lens": {"family": "equidistant", "coefficients": [1.815]}},
        "motion": {"intent": "hold"},
        "edges": {"zoom_limit": 1.25},
    },
}  # a walk that glides, a drone whose rows are put right, a wide lens behind which the camera is turned


def demo_project(session: Session, files: FileStore, clips: Sequence[Path]) -> Project:
    """Start the project with files that lie there; they are prepared and measured as any others."""
    project = new_project(session, NAME, measures_itself=True)
    for path in clips:
        clip = register_clip(session, files, project.id, path)
        document = Treatment.from_json(SHOWN.get(path.stem, {})).to_json()
        clip.draft = document
        clip.versions.append(Version(letter=next_letter(clip.versions), treatment=document))
    return project
