"""Bringing clips in and taking them away."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path, PurePath

from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.core.media.containers import SUFFIXES
from keen_horizon.core.media.joining import in_order, suffix_of
from keen_horizon.core.media.numbered import SUFFIXES as PICTURES
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.scanning import Asked
from keen_horizon.jobs.progress import announce
from keen_horizon.jobs.queue import enqueue
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.operations.names import kept_name, storable
from keen_horizon.store.files import FileStore, files_of
from keen_horizon.store.models import Base, Clip, Project, Render, Upload, Version, Work

KEY = re.compile("(^|_)key$")
MEDIA_SUFFIXES = {*SUFFIXES, ".zip"}
LEAST_SERIES = 2  # pictures that make a folder worth offering


def new_project(session: Session, name: str, measures_itself: bool = False) -> Project:
    """Start a project, whose clips are measured as they arrive if wanted."""
    name = name.strip()[:120]
    if not name:
        raise NotPossible("Give the project a name.")
    project = Project(name=name, measures_itself=measures_itself)
    session.add(project)
    session.flush()
    return project


def register_clip(session: Session, files: FileStore, project_id: int, path: Path) -> Clip:
    """Use a file where it lies; the file is only ever read."""
    project = find(session, Project, project_id)
    name = kept_name(path.name)
    if not storable(str(path)):
        raise NotPossible(f"{name}: its name, or a folder's, holds characters that cannot be kept. Rename it.")
    if not (path.is_file() or path.is_dir()):
        raise NotPossible(f"{name}: there is no such file.")
    place = files.place(path)
    same = (Clip.source_path == place.path, Clip.source_root.is_not_distinct_from(place.root))
    if session.scalar(select(Clip).where(Clip.project_id == project.id, *same)) is not None:
        raise NotPossible(f"{name} is already on the shelf.")
    clip = Clip(project_id=project.id, name=name, source_path=place.path, source_root=place.root)
    clip.bytes, clip.source_modified = known_by(path)
    return _arrive(session, clip)


def known_by(path: Path) -> tuple[int, int]:
    """What tells at a glance that a file, or a folder of pictures, is still the same: size, bytes, and time, ns."""
    found = [file.stat() for file in (files_of(path) if path.is_dir() else [path])]
    return sum(file.st_size for file in found), max((file.st_mtime_ns for file in found), default=0)


def register_from_folder(session: Session, files: FileStore, project_id: int, media: Path | None, name: str) -> Clip:
    """Register a file of the media folder by its relative name. Raises NotPossible outside the folder."""
    if media is None:
        raise NotPossible("No media folder is set. Start with KEEN_HORIZON_MEDIA naming one.")
    path = (media / name).resolve()
    if not path.is_relative_to(media):
        raise NotPossible("Only files inside the media folder can be used.")
    return register_clip(session, files, project_id, path)


def media_files(media: Path | None) -> list[str]:
    """Relative names of the media folder's video files, and of its folders of numbered pictures."""
    if media is None or not media.is_dir():
        return []
    found, series = [], Counter[Path]()
    for path in media.rglob("*"):
        suffix = path.suffix.lower()
        if suffix in PICTURES and path.is_file():
            series[path.parent] += 1
        elif suffix in MEDIA_SUFFIXES and path.is_file():
            found.append(path)
    found += [folder for folder, count in series.items() if count >= LEAST_SERIES and folder != media]
    return sorted(str(path.relative_to(media)) for path in found)[:2000]


def clip_from_upload(session: Session, files: FileStore, upload: Upload, received: Path, digest: str) -> Clip:
    """Make a clip of a completely received file, whose SHA-256 is `digest`."""
    suffix = PurePath(upload.name).suffix.lower()
    key = files.keep(received, suffix if suffix in MEDIA_SUFFIXES else ".bin", digest)
    clip = Clip(project_id=upload.project_id, name=upload.name, source_key=key, bytes=upload.size)
    arrived = _arrive(session, clip)
    upload.clip_id, upload.pieces = arrived.id, []
    return arrived


def retry_arrival(session: Session, clip: Clip) -> Work:
    """Prepare a clip again after a failure."""
    if any(work.state.open for work in clip.works):
        raise NotPossible(f"{clip.name} is being worked on.")
    clip.error = None
    return start_work(session, Work(kind="ingest", clip_id=clip.id))


def join_clips(session: Session, project_id: int, numbers: Sequence[int]) -> Clip:
    """Start one clip of several that go on from one another; they stay. Raises NotPossible, MediaError."""
    project = find(session, Project, project_id)
    chosen = [clip for clip in project.clips if clip.id in numbers]
    infos = {clip.id: ClipInfo.from_json(clip.info) for clip in chosen if clip.info is not None}
    if len(infos) < len(chosen):
        raise NotPossible("Clips that are still being prepared cannot be joined yet.")
    names = {info.name: clip for clip, info in zip(chosen, infos.values(), strict=True)}
    ordered = [names[info.name] for _, info in in_order([(Path(), info) for info in infos.values()])]
    first = PurePath(ordered[0].name)
    name = kept_name(f"{first.stem}-{PurePath(ordered[-1].name).stem}{suffix_of(infos[ordered[0].id])}")
    return _arrive(session, Clip(project_id=project.id, name=name, parts={"clips": [clip.id for clip in ordered]}))


def read_otherwise(session: Session, clip: Clip, asked: Asked) -> Work:
    """Prepare a clip anew with its fields read as asked; what was found in the pictures as they were is kept."""
    clip.asked = asdict(asked)
    return retry_arrival(session, clip)


def remove_clip(session: Session, clip: Clip) -> None:
    """Take a clip off the shelf with all that was made of it; a registered file stays where it is."""
    for work in clip.works:
        work.stop_wanted = True
    session.delete(clip)


def start_work(session: Session, work: Work) -> Work:
    """Add a piece of work, queue it and announce it; it is the session's person's (see `acting`)."""
    work.person = acting(session)
    session.add(work)
    enqueue(session, work)
    announce(session, work)
    return work


def used_keys(session: Session) -> set[str]:
    """Keys of all files that some row needs: what stands in columns named so, and renders' graphics."""
    columns = [column for table in Base.metadata.sorted_tables for column in table.columns if KEY.search(column.name)]
    keys = {key for column in columns for key in session.scalars(select(column)) if key}
    graphics = session.scalars(select(Render.graphics).where(Render.graphics.is_not(None)))
    return keys | {laid_over["key"] for laid_over in graphics if laid_over and "key" in laid_over}


def acting(session: Session) -> str | None:
    """Who the session works for, where people sign in."""
    return session.info.get("person")


def next_letter(versions: list[Version]) -> str:
    """A, B ... Z, AA, AB ... after the last one."""
    number = len(versions)
    taken = {version.letter for version in versions}
    while True:
        letter, rest = "", number
        while rest >= 0:
            letter = chr(65 + rest % 26) + letter
            rest = rest // 26 - 1
        if letter not in taken:
            return letter
        number += 1


def _arrive(session: Session, clip: Clip) -> Clip:
    session.add(clip)
    session.flush()
    start_work(session, Work(kind="ingest", clip_id=clip.id))
    return clip
