"""Writing files from a clip: its treated picture, a comparison, a plate, ST maps, graphics laid over it."""

from __future__ import annotations

import json
from pathlib import Path, PurePath

from sqlalchemy import Engine
from sqlalchemy.orm import Session

from keen_horizon.core.path.any_path import notes_of
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.kinds.material import checked_digest, need_space
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.material import clip_info, clip_measurement, clip_pins, clip_times, same_source
from keen_horizon.operations.solving import clip_path
from keen_horizon.operations.treating import render_bytes, render_name
from keen_horizon.pipeline.maps import write_maps
from keen_horizon.pipeline.overlaying import overlay_clip
from keen_horizon.pipeline.rendering import Versus, as_shot, render_clip
from keen_horizon.pipeline.report import path_document, report_of
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Render, Work


def render(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Write a render's file, whatever kind it is, unless that was done."""
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        if render.key is not None and render.report is not None:
            return
        kind = render.kind
    {"maps": _maps, "overlay": _overlay}.get(kind, _picture)(engine, files, work, progress)


def _maps(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        info, treatment = clip_info(render.clip), Treatment.from_json(render.treatment)
        frame = (render.graphics or {}).get("frame")
    target = files.work_path(f"render-{work.render_id}.zip")
    facts = write_maps(info, treatment, target, progress.frames, progress.should_stop, frame)
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        render.report, render.key = {"maps": facts}, files.keep(target, ".zip")


def _overlay(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        clip = render.clip
        source, info, times = same_source(session, clip, files), clip_info(clip), clip_times(clip, files)
        treatment, graphics = Treatment.from_json(render.treatment), render.graphics or {}
        need_space(files, render_bytes(render))
        stem = PurePath(render_name(render)).stem
    suffix = f".{treatment.output.container}"
    target = files.work_path(f"render-{work.render_id}{suffix}")
    facts = overlay_clip(
        source, info, times, treatment, files.path(graphics["key"]), graphics["name"], target,
        progress.frames, progress.should_stop, stem,
    )  # fmt: skip
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        checked_digest(session, files, work.clip_id)
        render.report, render.key = {"overlay": facts.to_json()}, files.keep(target, suffix)


def _picture(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        clip = render.clip
        source, info, times = same_source(session, clip, files), clip_info(clip), clip_times(clip, files)
        treatment = Treatment.from_json(render.treatment)
        path = clip_path(session, files, clip, treatment)
        measurement = clip_measurement(session, files, clip, treatment)
        notes = notes_of(measurement, treatment, path, clip_pins(session, files, clip, treatment))
        versus = _versus(session, files, render, treatment)
        need_space(files, render_bytes(render))
        stem = PurePath(render_name(render)).stem
    suffix = f".{treatment.output.container}"
    target = files.work_path(f"render-{render.id}{suffix}")
    facts = render_clip(
        source, info, times, path, treatment, target, progress.frames, progress.should_stop, versus, stem
    )
    document: Path = files.work_path(f"render-{render.id}.json")
    document.write_text(json.dumps(path_document(path, info, times)))
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        checked_digest(session, files, work.clip_id)
        seconds = {"render": facts.seconds}
        render.key = files.keep(target, suffix)
        render.report = report_of(path, treatment, info, facts, seconds, notes, measurement)
        render.path_key = files.keep(document, ".json")


def _versus(session: Session, files: FileStore, render: Render, treatment: Treatment) -> Versus | None:
    """The other side of a comparison: a treatment over the same range, or the clip as shot."""
    wanted = render.versus
    if wanted is None:
        return None
    other = as_shot(treatment)
    if wanted["treatment"]:
        other = Treatment.from_json(wanted["treatment"] | {"range": treatment.to_json()["range"]})
    comparison = Comparison(wanted["layout"], wanted["place"], wanted["turn"])
    return Versus(clip_path(session, files, render.clip, other), other, comparison)
