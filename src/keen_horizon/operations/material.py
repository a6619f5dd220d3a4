"""A clip's material: its file, its frame times and its measurement."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.core.errors import MediaError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment import Treatment
from keen_horizon.operations.errors import NotPossible
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, ClipState, MeasuredRange


def source_file(clip: Clip, files: FileStore) -> Path:
    """The clip's own file. Raises MediaError when a registered file has gone."""
    path = Path(clip.source_path) if clip.source_path else files.path(clip.source_key or "")
    if not path.is_file():
        raise MediaError(f"{clip.name}: the file {path} is no longer there. Put it back and try again.")
    return path


def clip_info(clip: Clip) -> ClipInfo:
    """What is known about a clip. Raises NotPossible while it is not ready."""
    if clip.state is not ClipState.READY or clip.info is None:
        raise NotPossible(f"{clip.name} is not ready yet.")
    return ClipInfo.from_json(clip.info)


def clip_times(clip: Clip, files: FileStore) -> NDArray[np.float64]:
    """Frame times (N,) on the file's own clock."""
    return np.asarray(np.load(files.path(clip.times_key or ""), allow_pickle=False))


def covering_range(session: Session, clip: Clip, first: int, last: int) -> MeasuredRange | None:
    """The smallest measured range that covers frames `first` ... `last`."""
    return session.scalar(
        select(MeasuredRange)
        .where(MeasuredRange.clip_id == clip.id, MeasuredRange.first <= first, MeasuredRange.last >= last)
        .order_by(MeasuredRange.last - MeasuredRange.first)
        .limit(1)
    )


def clip_measurement(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Measurement:
    """The measurement of exactly the treatment's range. Raises NotPossible when it was not measured."""
    first, last = treatment.frames(clip_info(clip).frames)
    row = covering_range(session, clip, first, last)
    if row is None:
        raise NotPossible(f"{clip.name}: the motion of frames {first}-{last} has not been measured yet.")
    return _loaded(files.path(row.key)).part(first, last)


@lru_cache(maxsize=8)
def _loaded(path: Path) -> Measurement:
    return Measurement.load(path)
