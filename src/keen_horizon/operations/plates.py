"""What tracking and 3-D need of a lens: the straight plate, ST maps, and graphics bent back over the clip."""

from __future__ import annotations

import shutil
import uuid
from pathlib import PurePath
from typing import BinaryIO

from sqlalchemy.orm import Session

from keen_horizon.core.lens.plate import plate_treatment, plates_of
from keen_horizon.core.media.layers import KINDS, PICTURES
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.clips import start_work
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.material import clip_info, of_frames
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Render, Work

GRAPHICS = (*PICTURES, ".zip", ".mp4", ".mov", ".mkv", ".webm", ".avi")


def request_plate(session: Session, clip: Clip, treatment: Treatment) -> Work:
    """Queue the straight plate of the treatment's range. Raises LensError without a lens."""
    of_frames(clip)
    treatment.frames(clip_info(clip).frames)
    return _queued(session, Render(clip_id=clip.id, treatment=_plate(clip, treatment).to_json(), kind="plate"))


def request_maps(session: Session, clip: Clip, treatment: Treatment, frame: int) -> Work:
    """Queue the ST maps of the treatment's lens; of a keyed one those of a frame. Raises LensError without one,
    RangeError where the clip has no such frame.
    """
    of_frames(clip)
    clip_info(clip).check_frame(frame)
    document = _plate(clip, treatment).to_json()
    document["output"] |= {"container": "zip", "codec": "tiff"}
    return _queued(session, Render(clip_id=clip.id, treatment=document, kind="maps", graphics={"frame": frame}))


def request_overlay(
    session: Session, files: FileStore, clip: Clip, treatment: Treatment, name: str, data: BinaryIO
) -> Work:
    """Queue laying graphics, read from `data`, over the treatment's range. Raises LensError, NotPossible."""
    of_frames(clip)
    info = clip_info(clip)
    plates_of(treatment, info.display, clip.name, treatment.frames(info.frames))
    name = PurePath(name.replace("\\", "/")).name[:255]
    suffix = PurePath(name).suffix.lower()
    if suffix not in GRAPHICS:
        raise NotPossible(f"{name}: graphics are {KINDS}.")
    arriving = files.work_path(f"graphics-{uuid.uuid4().hex}{suffix}")
    try:
        with arriving.open("wb") as file:
            shutil.copyfileobj(data, file, 1 << 20)
        if arriving.stat().st_size == 0:
            raise NotPossible(f"{name}: the file is empty. Render the graphics again.")
        graphics = {"key": files.keep(arriving, suffix), "name": name}
    finally:
        arriving.unlink(missing_ok=True)
    return _queued(session, Render(clip_id=clip.id, treatment=treatment.to_json(), kind="overlay", graphics=graphics))


def _plate(clip: Clip, treatment: Treatment) -> Treatment:
    return plate_treatment(treatment, clip.name)


def _queued(session: Session, render: Render) -> Work:
    session.add(render)
    session.flush()
    return start_work(session, Work(kind="render", clip_id=render.clip_id, render_id=render.id))
