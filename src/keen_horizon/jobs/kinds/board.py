"""Finding a lens by a board that a clip films."""

from __future__ import annotations

from sqlalchemy import Engine

from keen_horizon.core.lens.calibration import Board
from keen_horizon.jobs.kinds.material import ranged_material
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.profiles import keep_calibration
from keen_horizon.pipeline.calibrating import calibrate_clip
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Work


def board(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Find the lens by a board that the clip films; it becomes a profile."""
    details = work.details or {}
    with transaction(engine) as session:
        material = ranged_material(session, files, work)
    found, colours = calibrate_clip(*material, Board(**details["board"]), progress.frames, progress.should_stop)
    with transaction(engine) as session:
        keep_calibration(session, session.get_one(Clip, work.clip_id), details["name"], found, colours)
