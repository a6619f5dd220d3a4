"""A clip's material: its file, its frame times and its measurement."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.core.errors import KeenHorizonError, MediaError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.motion.plane import PlaneTrack
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.motion import PinPoint
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.operations.clips import known_by
from keen_horizon.operations.errors import NotPossible, SourceChanged
from keen_horizon.pipeline.flat_things import flat_key
from keen_horizon.pipeline.pinning import mark_key
from keen_horizon.store.files import FileStore, Place, digest_of
from keen_horizon.store.models import Clip, ClipState, FollowedFlat, FollowedPin, MeasuredRange


def source_place(clip: Clip, files: FileStore) -> Path:
    """Where the clip's own file should lie. Raises StoreError where that is not known."""
    if clip.source_path is None:
        return files.path(clip.source_key or "")
    return files.placed(Place(clip.source_root, clip.source_path))


def source_file(clip: Clip, files: FileStore) -> Path:
    """The clip's own file. Raises MediaError when it has gone, SourceChanged when it was replaced."""
    path = source_place(clip, files)
    if not path.exists():
        raise MediaError(f"{clip.name}: the file {path} is no longer there. Put it back and try again.")
    if clip.source_path is not None and clip.digest is not None and known_by(path) != _prepared(clip):
        raise SourceChanged(
            f"{clip.name}: the file was replaced or changed since it was prepared. Prepare it anew on the shelf, or "
            "put the earlier file back: what was found in that one is kept."
        )
    return path


def source_changed(clip: Clip, files: FileStore) -> bool:
    """Whether the clip's own file is another one than was prepared, by its size and time."""
    try:
        source_file(clip, files)
    except SourceChanged:
        return True
    except KeenHorizonError:
        return False
    return False


def same_source(session: Session, clip: Clip, files: FileStore) -> Path:
    """The clip's own file, compared by its content where only its time has changed; for work that takes long.

    Raises as `source_file`.
    """
    try:
        return source_file(clip, files)
    except SourceChanged:
        path = source_place(clip, files)
        now = known_by(path)
        if now[0] != clip.bytes or digest_of(path) != clip.digest:
            raise
        clip.source_modified = now[1]
        return path


def _prepared(clip: Clip) -> tuple[int, int | None]:
    return clip.bytes, clip.source_modified


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
        .where(
            MeasuredRange.clip_id == clip.id, MeasuredRange.source_digest == clip.pictures,
            MeasuredRange.first <= first, MeasuredRange.last >= last,
        )
        .order_by(MeasuredRange.last - MeasuredRange.first)
        .limit(1)
    )  # fmt: skip


def clip_measurement(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Measurement:
    """The measurement of exactly the treatment's range; motion left as shot needs none.

    Raises NotPossible when it was not measured.
    """
    info = clip_info(clip)
    first, last = treatment.frames(info.frames)
    row = covering_range(session, clip, first, last)
    if row is None and treatment.motion.intent is None:
        return Measurement.still(info.display, first, clip_times(clip, files)[first : last + 1])
    if row is None:
        raise NotPossible(f"{clip.name}: the motion of frames {first}-{last} has not been measured yet.")
    return _part(files.path(row.key), first, last, info.turns)


def covering_pin(session: Session, clip: Clip, pin: PinPoint, first: int, last: int) -> FollowedPin | None:
    """The stored track of a pinned point that covers frames `first` ... `last`."""
    return session.scalar(
        select(FollowedPin)
        .where(
            FollowedPin.clip_id == clip.id, FollowedPin.source_digest == clip.pictures,
            FollowedPin.marks == mark_key(pin.marks),
            FollowedPin.first <= first, FollowedPin.last >= last,
        )
        .order_by(FollowedPin.last - FollowedPin.first)
        .limit(1)
    )  # fmt: skip


def clip_pins(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> tuple[PinTrack, ...]:
    """The tracks that a treatment's Pin needs. Raises NotPossible when one was not followed yet."""
    if treatment.motion.intent != "pin":
        return ()
    first, last = treatment.frames(clip_info(clip).frames)
    tracks = []
    for pin in treatment.motion.pin.points:
        row = covering_pin(session, clip, pin, first, last)
        if row is None:
            raise NotPossible(f"{clip.name}: the pinned point has not been followed through frames {first}-{last} yet.")
        tracks.append((files.path(row.key), first, last))
    return _tracks(tuple(tracks))


def covering_flat(session: Session, clip: Clip, optics: Optics, first: int, last: int) -> FollowedFlat | None:
    """The stored corners of the optics' flat thing that cover frames `first` ... `last`."""
    if optics.flat is None:
        return None
    return session.scalar(
        select(FollowedFlat)
        .where(
            FollowedFlat.clip_id == clip.id, FollowedFlat.source_digest == clip.pictures,
            FollowedFlat.marks == flat_key(optics.flat, optics),
            FollowedFlat.first <= first, FollowedFlat.last >= last,
        )
        .order_by(FollowedFlat.last - FollowedFlat.first)
        .limit(1)
    )  # fmt: skip


def clip_flat(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> PlaneTrack | None:
    """The corners of a treatment's flat thing over its range; None where they were not followed yet."""
    first, last = treatment.frames(clip_info(clip).frames)
    row = covering_flat(session, clip, treatment.optics, first, last)
    return None if row is None else PlaneTrack.load(files.path(row.key)).part(first, last)


@lru_cache(maxsize=8)
def _tracks(wanted: tuple[tuple[Path, int, int], ...]) -> tuple[PinTrack, ...]:
    """The same tracks for the same files and ranges, so that what follows from them can be kept."""
    return tuple(PinTrack.load(path).part(first, last) for path, first, last in wanted)


@lru_cache(maxsize=8)
def _part(path: Path, first: int, last: int, turns: int) -> Measurement:
    """The same measurement for the same range, so that what follows from it can be kept."""
    return _loaded(path).part(first, last).turned(turns)


@lru_cache(maxsize=8)
def _loaded(path: Path) -> Measurement:
    return Measurement.load(path)
