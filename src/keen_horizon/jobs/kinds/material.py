"""What work on a clip starts from, and what is checked when it ends."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from keen_horizon.core.errors import MediaError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.operations.material import clip_info, clip_times, same_source
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Work

LEAST_SPACE = 64 << 20


class Material(NamedTuple):
    """What work on a range of a clip starts from."""

    source: Path
    info: ClipInfo
    times: NDArray[np.float64]
    first: int
    last: int


def ranged_material(session: Session, files: FileStore, work: Work) -> Material:
    """The clip's file, facts and times, and the work's range. Raises SourceChanged."""
    assert work.first is not None
    assert work.last is not None
    clip = session.get_one(Clip, work.clip_id)
    return Material(same_source(session, clip, files), clip_info(clip), clip_times(clip, files), work.first, work.last)


def checked_digest(session: Session, files: FileStore, clip_id: int) -> str:
    """What a finding was made in: the clip's pictures, if its file is still that one. Raises SourceChanged."""
    clip = session.get_one(Clip, clip_id)
    same_source(session, clip, files)
    return clip.pictures or ""


def need_space(files: FileStore, expected: int) -> None:
    """Raises MediaError where the disk cannot take a file of about `expected` bytes."""
    free = files.free_bytes()
    if free < expected + LEAST_SPACE:
        raise MediaError(
            f"The disk has {free / 1e9:.1f} GB left, too little for this render. Free some space and try again."
        )
