"""A clip's material: its file, its frame times and its measurement."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from keen_horizon.core.errors import KeenHorizonError, MediaError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.flat_thing import PlaneTrack
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.clips import known_by
from keen_horizon.operations.errors import NotPossible, SourceChanged
from keen_horizon.operations.findings import MOTION, covering, the_flat, the_pin
from keen_horizon.store.files import FileStore, Place, digest_of
from keen_horizon.store.models import Clip, ClipState


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


def clip_measurement(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Measurement:
    """The measurement of exactly the treatment's range; motion left as shot needs none.

    Raises NotPossible when it was not measured.
    """
    info = clip_info(clip)
    first, last = treatment.frames(info.frames)
    row = covering(session, clip, MOTION, first, last)
    if row is None and treatment.motion.intent is None:
        still = Measurement.still(info.display, first, clip_times(clip, files)[first : last + 1])
        return replace(still, sphere=info.camera == "sphere")
    if row is None:
        raise NotPossible(f"{clip.name}: the motion of frames {first}-{last} has not been measured yet.")
    return _part(files.path(row.key or ""), first, last, info.turns)


def of_frames(clip: Clip) -> None:
    """Raises NotPossible for a clip that shows all around."""
    if clip_info(clip).camera == "sphere":
        raise NotPossible(f"{clip.name}: this is not there for spheres. Deliver a view of it, and bring that in.")


def clip_pins(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> tuple[PinTrack, ...]:
    """The tracks that a treatment's Pin needs. Raises NotPossible when one was not followed yet."""
    if treatment.motion.intent != "pin":
        return ()
    first, last = treatment.frames(clip_info(clip).frames)
    tracks = []
    for pin in treatment.motion.pin.points:
        row = covering(session, clip, the_pin(pin), first, last)
        if row is None:
            raise NotPossible(f"{clip.name}: the pinned point has not been followed through frames {first}-{last} yet.")
        tracks.append((files.path(row.key or ""), first, last))
    return _tracks(tuple(tracks))


def clip_flat(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> PlaneTrack | None:
    """The corners of a treatment's flat thing over its range; None where they were not followed yet."""
    if treatment.optics.flat is None:
        return None
    first, last = treatment.frames(clip_info(clip).frames)
    row = covering(session, clip, the_flat(treatment.optics), first, last)
    return None if row is None else PlaneTrack.load(files.path(row.key or "")).part(first, last)


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
