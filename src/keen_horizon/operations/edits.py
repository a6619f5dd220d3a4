"""Edits brought to a project: their clips get the ranges that the edit uses, and it is handed back with renders.

An edit is kept as it came, and read again whenever something about it is asked, so that clips and renders that come
later count too.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import Any

from sqlalchemy.orm import Session

from keen_horizon.core.exchange.edits import Replacement, Use
from keen_horizon.core.exchange.relinking import EVENLY, Link, Media, Miss, covering, relinked, replacement
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations.clips import media_files, register_from_folder
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info, clip_times
from keen_horizon.operations.names import kept_name, storable
from keen_horizon.operations.treating import render_name
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, ClipState, Edit, Project, Render

HANDLES = 12  # frames on either side of what an edit uses


@dataclass(frozen=True)
class Linked:
    """An edit's clips with their clips here, those whose file is not here, and those whose clip is being prepared."""

    links: tuple[Link[int], ...]
    misses: tuple[Miss, ...]
    coming: tuple[Use, ...]


def bring_edit(
    session: Session, files: FileStore, media: Path | None, project_id: int, name: str, text: str, uses: Sequence[Use]
) -> Edit:
    """Keep an edit, take what it uses of the media folder onto the shelf, and give its clips their ranges."""
    project = find(session, Project, project_id)
    if not storable(text):
        raise NotPossible(f"{name}: it holds characters that cannot be kept.")
    edit = Edit(project_id=project.id, name=kept_name(name)[:255], document=text, handles=HANDLES)
    session.add(edit)
    session.flush()
    here = {clip.name.lower() for clip in project.clips}
    in_folder = {PurePath(path).name.lower(): path for path in media_files(media)}
    for wanted in {use.file.lower() for use in uses}:
        if wanted not in here and wanted in in_folder:
            register_from_folder(session, files, project.id, media, in_folder[wanted])
    session.refresh(project)
    set_ranges(edit, uses, files)
    return edit


def set_ranges(edit: Edit, uses: Sequence[Use], files: FileStore) -> None:
    """Give the edit's clips the ranges that it uses, unless an editor set one.

    While others are on their way only names count: likeness by timecode and length would find too few to choose from.
    """
    by_id = {clip.id: clip for clip in edit.project.clips}
    links = linked(edit, uses, files).links
    if any(clip.state is ClipState.ARRIVING for clip in by_id.values()):
        links = tuple(link for link in links if by_id[link.key].name.lower() == link.use.file.lower())
    for number, (first, last) in covering(links).items():
        clip = by_id[number]
        draft = Treatment.from_json(clip.draft or {}).to_json()
        if draft["range"] is None:
            clip.draft = draft | {"range": {"in": first, "out": last}}


def linked(edit: Edit, uses: Sequence[Use], files: FileStore) -> Linked:
    """Which of the edit's files are on its project's shelf."""
    clips = edit.project.clips
    ready = {clip.id: _media(clip, files) for clip in clips if clip.state is ClipState.READY and clip.info}
    arriving = {clip.name.lower() for clip in clips if clip.state is ClipState.ARRIVING}
    links, misses = relinked(uses, ready, edit.handles)
    coming = tuple(miss.use for miss in misses if miss.use.file.lower() in arriving)
    return Linked(links, tuple(miss for miss in misses if miss.use not in coming), coming)


def corrected_files(edit: Edit, found: Linked, files: FileStore) -> dict[int, Replacement]:
    """The newest render that holds what each of the edit's clips uses, by the clip's number in the edit."""
    by_id = {clip.id: clip for clip in edit.project.clips}
    media = {link.key: _media(by_id[link.key], files) for link in found.links}
    bare, _ = relinked([link.use for link in found.links], media, 0)
    replacements = {}
    for link in bare:
        info = media[link.key].info
        render = _newest_over(by_id[link.key], info, link.first, link.last)
        if render is None:
            continue
        frames = Treatment.from_json(render.treatment).frames(info.frames)
        replacements[link.use.number] = replacement(link, media[link.key], kept_name(render_name(render)), frames)
    return replacements


def _media(clip: Clip, files: FileStore) -> Media:
    info = clip_info(clip)
    return Media(info, clip_times(clip, files) if info.variable_rate else EVENLY)


def _newest_over(clip: Clip, info: ClipInfo, first: int, last: int) -> Render | None:
    """The newest picture of a clip that holds frames `first` ... `last`."""
    for render in reversed(clip.renders):
        if render.key is None or render.kind != "picture" or render.versus is not None:
            continue
        from_, to = Treatment.from_json(render.treatment).frames(info.frames)
        if from_ <= first and to >= last and not render.key.endswith(".zip"):
            return render
    return None


def edit_facts(edit: Edit, found: Linked, replaced: dict[int, Any]) -> dict[str, Any]:
    """How far an edit is."""
    return {
        "id": edit.id,
        "name": edit.name,
        "clips": len(found.links) + len(found.misses) + len(found.coming),
        "linked": len(found.links),
        "coming": len(found.coming),
        "corrected": len(replaced),
        "misses": [f"{miss.use.name}: {miss.why}" for miss in found.misses],
    }
