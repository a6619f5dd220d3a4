"""Preparing a clip: its facts, its light copy for the viewer, its thumbnails."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path, PurePath
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from keen_horizon.core.errors import MediaError, RangeError, Stopped
from keen_horizon.core.exchange.edits import read_edit
from keen_horizon.core.media.joining import joined, left_behind
from keen_horizon.core.media.probe import ClipInfo, probe, shortened
from keen_horizon.core.media.proxy import make_proxy
from keen_horizon.core.media.scanning import Asked
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.clips import known_by
from keen_horizon.operations.edits import set_ranges
from keen_horizon.operations.material import clip_info, same_source, source_place
from keen_horizon.operations.starting import first_treatment
from keen_horizon.operations.treating import measure_arrived
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore, digest_of
from keen_horizon.store.models import Clip, ClipState, Work


def ingest(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Prepare a clip, or prepare it anew when its file was replaced; a file that is the same stays prepared."""
    _join(engine, files, work, progress)
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        source, name, stored = source_place(clip, files), clip.name, clip.source_key
        asked, left = Asked.from_json(clip.asked), (clip.parts or {}).get("left", ())
    if not source.exists():
        raise MediaError(f"{name}: the file {source} is no longer there. Put it back and try again.")
    known = known_by(source)
    digest = PurePath(stored).stem if stored else digest_of(source, progress.should_stop)
    if not digest:
        raise Stopped
    with transaction(engine) as session:
        if _prepared_already(session, files, work.clip_id, digest, known):
            return
    info, times = probe(source, asked)
    info = replace(info, name=name)
    if stored:  # its file's time is that of its receiving
        info = replace(info, carried=info.carried.without_file_time())
    info = replace(info, carried=replace(info.carried, others=(*info.carried.others, *left)))
    with transaction(engine) as session:
        twin = _same_pictures(session, files, digest, info)
        copy = Copy.of(twin) if twin else None
    copy = copy or _copied(files, work.clip_id, source, info, times, progress)
    info, _ = shortened(info, times, copy.frames)
    if not stored and known_by(source) != known:
        raise MediaError(f"{name}: the file changed while it was prepared. Wait until it is copied, then try again.")
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        before = ClipInfo.from_json(clip.info) if clip.info else info
        same_count = before.reading.pictures_per_frame == info.reading.pictures_per_frame
        clip.bytes, clip.source_modified = known
        clip.info, clip.digest, clip.state, clip.error = info.to_json(), digest, ClipState.READY, None
        clip.proxy, (clip.proxy_key, clip.thumbnails_key, clip.times_key) = copy.facts, copy.keys
        kept = clip.draft if same_count else None
        clip.draft = _fitting(kept, info.frames) or first_treatment(session).to_json()
        for edit in clip.project.edits:
            set_ranges(edit, read_edit(edit.document, edit.name), files)
        measure_arrived(session, clip)


def _join(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Make the file of a clip that is joined of others, unless it is there."""
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        if not (clip.parts and "clips" in clip.parts):
            return
        found = [session.get(Clip, number) for number in clip.parts["clips"]]
        parts = [(same_source(session, part, files), clip_info(part)) for part in found if part is not None]
        name, wanted = clip.name, len(clip.parts["clips"])
    if len(parts) < wanted:
        raise MediaError(f"{name}: one of the clips that it is joined of was removed. Add it and join them again.")
    target = files.work_path(f"join-{work.clip_id}{PurePath(name).suffix}")
    joined(parts, target, progress.frames, progress.should_stop)
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        clip.source_key = files.keep(target, PurePath(name).suffix)
        clip.parts = {"left": list(left_behind([info for _, info in parts]))}
        clip.bytes = files.path(clip.source_key).stat().st_size


@dataclass(frozen=True)
class Copy:
    """What the viewer shows of a clip: facts of the light copy, how many frames it has, and the store's keys of copy,
    thumbnails and times.
    """

    facts: dict[str, Any]
    frames: int
    keys: tuple[str, str, str]

    @staticmethod
    def of(clip: Clip) -> Copy:
        """That of a clip that is prepared."""
        return Copy(clip.proxy or {}, ClipInfo.from_json(clip.info or {}).frames, _keys(clip))


def _keys(clip: Clip) -> tuple[str, str, str]:
    return clip.proxy_key or "", clip.thumbnails_key or "", clip.times_key or ""


def _same_pictures(session: Session, files: FileStore, digest: str, info: ClipInfo) -> Clip | None:
    """A clip on another shelf whose file, and how it is read, are the same: what was made of its pictures is there."""
    for clip in session.scalars(select(Clip).where(Clip.digest == digest, Clip.state == ClipState.READY)):
        theirs = ClipInfo.from_json(clip.info or {})
        read_alike = (theirs.reading, theirs.camera, theirs.display) == (info.reading, info.camera, info.display)
        if read_alike and _kept(clip, files):
            return clip
    return None


def _kept(clip: Clip, files: FileStore) -> bool:
    """Whether all that was made of a clip is in the store."""
    return all(key and files.path(key).exists() for key in _keys(clip))


def _copied(
    files: FileStore, clip_id: int, source: Path, info: ClipInfo, times: NDArray[np.float64], progress: Progress
) -> Copy:
    """Make the light copy. Raises Stopped, MediaError."""
    proxy, strip, times_file = (files.work_path(f"ingest-{clip_id}{end}") for end in (".mp4", ".jpg", ".npy"))
    made = make_proxy(source, info, times, proxy, strip, progress.frames, progress.should_stop)
    np.save(times_file, times[: made.frames])
    facts = {
        "width": made.size.width,
        "height": made.size.height,
        "rate": made.rate,
        "lost_frames": made.frames - made.decoded,
    }
    keys = files.keep(proxy, ".mp4"), files.keep(strip, ".jpg"), files.keep(times_file, ".npy")
    return Copy(facts, made.frames, keys)


def _prepared_already(session: Session, files: FileStore, clip_id: int, digest: str, known: tuple[int, int]) -> bool:
    """Whether nothing is left to do: the content is the one that was prepared. Raises MediaError for a twin's."""
    clip = session.get_one(Clip, clip_id)
    same = select(Clip).where(Clip.project_id == clip.project_id, Clip.digest == digest, Clip.id != clip.id)
    twin = session.scalar(same)
    if twin is not None:
        raise MediaError(f"{clip.name}: this file is already on the shelf as {twin.name}. Remove this card.")
    if clip.digest != digest or clip.info is None or ClipInfo.from_json(clip.info).asked != Asked.from_json(clip.asked):
        return False
    if not _kept(clip, files):
        return False
    clip.state, clip.error = ClipState.READY, None
    clip.bytes, clip.source_modified = known
    return True


def _fitting(draft: dict[str, Any] | None, frames: int) -> dict[str, Any] | None:
    """A draft made for another file: its range goes where this one is shorter."""
    if draft is None:
        return None
    try:
        Treatment.from_json(draft).frames(frames)
    except RangeError:
        return draft | {"range": None}
    return draft
