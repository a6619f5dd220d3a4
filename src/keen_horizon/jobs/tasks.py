"""What a worker does with a piece of work: looks it up, calls the pipeline, stores the result.

Every kind can start again after a kill: half-made files have fixed names in the work folder and are
written over, a measurement goes on from its checkpoint.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable
from datetime import UTC, datetime
from errno import ENOSPC
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from keen_horizon.core.errors import KeenHorizonError, MediaError, Stopped
from keen_horizon.core.lens.calibration import Board
from keen_horizon.core.media.probe import ClipInfo, probe, shortened
from keen_horizon.core.media.proxy import make_proxy
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.notes import outcome_notes, solution_notes
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.motion import PinPoint
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.jobs.progress import Progress, announce
from keen_horizon.operations.material import (
    clip_info,
    clip_measurement,
    clip_pins,
    clip_times,
    covering_flat,
    covering_pin,
    source_file,
)
from keen_horizon.operations.optics import told
from keen_horizon.operations.profiles import keep_calibration
from keen_horizon.operations.starting import first_treatment
from keen_horizon.operations.treating import clip_path, render_bytes
from keen_horizon.pipeline.calibrating import calibrate_clip
from keen_horizon.pipeline.finding import find_clip_lens
from keen_horizon.pipeline.flat_things import flat_key, follow_clip
from keen_horizon.pipeline.maps import write_maps
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.overlaying import overlay_clip
from keen_horizon.pipeline.pinning import mark_key, pin_clip
from keen_horizon.pipeline.rendering import Versus, as_shot, render_clip
from keen_horizon.pipeline.report import correction_report, path_document
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore, digest_of
from keen_horizon.store.models import Clip, ClipState, FollowedFlat, FollowedPin, MeasuredRange, Render, Work, WorkState

log = logging.getLogger(__name__)

LONGEST_ERROR = 2000  # characters: an announcement holds 8000 bytes

Job = Callable[[Engine, FileStore, Work, Progress], None]


def run_work(engine: Engine, files: FileStore, work_id: int) -> None:
    """Do one piece of work and note how it ended; never raises for what an editor can understand."""
    with transaction(engine) as session:
        work = session.get(Work, work_id)
        if work is None or not work.state.open:
            return
        work.state, work.error = WorkState.WORKING, None
        if work.stop_wanted:
            _end(session, work, WorkState.CANCELLED, None)
            return
        announce(session, work)
    try:
        _JOBS[work.kind](engine, files, work, Progress(engine, work_id))
        outcome, error = WorkState.DONE, None
    except Stopped:
        outcome, error = WorkState.CANCELLED, None
    except (KeenHorizonError, OSError) as problem:
        outcome, error = WorkState.FAILED, str(problem)
        if isinstance(problem, OSError) and problem.errno == ENOSPC:
            error = "The disk is full. Free some space and try again; nothing was lost."
    except Exception:
        log.exception("work %s failed", work_id)
        outcome, error = (
            WorkState.FAILED,
            "An unexpected error stopped this; the log has details. Try again.",
        )
    with transaction(engine) as session:
        row = session.get(Work, work_id)
        if row is not None:
            _end(session, row, outcome, error)


def _end(session: Session, work: Work, state: WorkState, error: str | None) -> None:
    if error and work.clip.source_key:  # the core names the file it read; editors know the clip's name
        error = error.replace(work.clip.source_key, work.clip.name)
    work.state, work.error, work.ended_at = state, error and error[:LONGEST_ERROR], datetime.now(UTC)
    if work.kind == "ingest" and state is not WorkState.DONE:
        work.clip.state = ClipState.FAILED
        work.clip.error = error or "Preparing this clip was cancelled."
    announce(session, work)


def _ingest(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        source = source_file(clip, files)
        name = clip.name
    digest = digest_of(source, progress.should_stop)
    with transaction(engine) as session:
        twin = session.scalar(
            select(Clip).where(Clip.project_id == clip.project_id, Clip.digest == digest, Clip.id != clip.id)
        )
        if twin is not None:
            raise MediaError(f"{name}: this file is already on the shelf as {twin.name}. Remove this card.")
    info, times = probe(source)
    info = ClipInfo.from_json(info.to_json() | {"name": name})
    proxy, strip, times_file = (files.work_path(f"ingest-{work.clip_id}{end}") for end in (".mp4", ".jpg", ".npy"))
    facts = make_proxy(source, info, times, proxy, strip, progress.frames, progress.should_stop)
    info, times = shortened(info, times, facts.frames)
    np.save(times_file, times)
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        clip.info, clip.digest, clip.state, clip.error = info.to_json(), digest, ClipState.READY, None
        clip.proxy = {
            "width": facts.size.width,
            "height": facts.size.height,
            "rate": facts.rate,
            "lost_frames": facts.frames - facts.decoded,
        }
        clip.proxy_key = files.keep(proxy, ".mp4")
        clip.thumbnails_key = files.keep(strip, ".jpg")
        clip.times_key = files.keep(times_file, ".npy")
        clip.draft = clip.draft or first_treatment(session).to_json()


class Material(NamedTuple):
    """What work on a range of a clip starts from."""

    source: Path
    info: ClipInfo
    times: NDArray[np.float64]
    first: int
    last: int


def _material(session: Session, files: FileStore, work: Work) -> Material:
    assert work.first is not None
    assert work.last is not None
    clip = session.get_one(Clip, work.clip_id)
    return Material(source_file(clip, files), clip_info(clip), clip_times(clip, files), work.first, work.last)


def _measure(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        material = _material(session, files, work)
        known = session.scalar(
            select(MeasuredRange).where(
                MeasuredRange.clip_id == work.clip_id,
                MeasuredRange.first <= material.first,
                MeasuredRange.last >= material.last,
            )
        )
    checkpoint = files.work_path(f"measure-{work.clip_id}-{work.first}-{work.last}.checkpoint")
    if known is None:
        measurement = measure_clip(*material, progress.frames, progress.should_stop, checkpoint)
        result = files.work_path(f"measure-{work.clip_id}-{work.first}-{work.last}.npz")
        measurement.save(result)
        before = shake(measurement.poses.about(measurement.size.centre), measurement.size)
        with transaction(engine) as session:
            session.add(
                MeasuredRange(
                    clip_id=work.clip_id,
                    first=material.first,
                    last=material.last,
                    key=files.keep(result, ".npz"),
                    shake_percent=100 * before / measurement.size.width,
                    blind_pairs=int(measurement.blind.sum()),
                    cuts=int(measurement.cut.sum()),
                )
            )
    checkpoint.unlink(missing_ok=True)


def _pin(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    pin = PinPoint.model_validate(work.details)
    with transaction(engine) as session:
        material = _material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        if covering_pin(session, clip, pin, material.first, material.last) is not None:
            return
    track = pin_clip(*material, pin, progress.frames, progress.should_stop)
    result = files.work_path(f"pin-{work.id}.npz")
    track.save(result)
    with transaction(engine) as session:
        session.add(
            FollowedPin(
                clip_id=work.clip_id,
                marks=mark_key(pin.marks),
                first=material.first,
                last=material.last,
                key=files.keep(result, ".npz"),
                lost=int((track.trail.confidence == 0).sum()),
            )
        )


def _flat(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    optics = Optics.model_validate(work.details)
    assert optics.flat is not None
    with transaction(engine) as session:
        material = _material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        if covering_flat(session, clip, optics, material.first, material.last) is not None:
            return
    track = follow_clip(*material, optics.flat, optics, progress.frames, progress.should_stop)
    result = files.work_path(f"flat-{work.id}.npz")
    track.save(result)
    with transaction(engine) as session:
        session.add(
            FollowedFlat(
                clip_id=work.clip_id,
                marks=flat_key(optics.flat, optics),
                first=material.first,
                last=material.last,
                key=files.keep(result, ".npz"),
                lost=int((track.confidence == 0).sum()),
            )
        )


def _lens(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        material = _material(session, files, work)
    found = find_clip_lens(*material, progress.frames, progress.should_stop)
    with transaction(engine) as session:
        session.get_one(Work, work.id).details = {
            "lens": told(found.lens),
            "straightedges": [{"frame": edge.frame, "points": edge.points.round(2).tolist()} for edge in found.edges],
            "confidence": round(found.confidence, 3),
        }


def _board(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    details = work.details or {}
    with transaction(engine) as session:
        material = _material(session, files, work)
    found = calibrate_clip(*material, Board(**details["board"]), progress.frames, progress.should_stop)
    with transaction(engine) as session:
        keep_calibration(session, session.get_one(Clip, work.clip_id), details["name"], found)


def _render(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        kind = session.get_one(Render, work.render_id).kind
    {"maps": _maps, "overlay": _overlay}.get(kind, _picture)(engine, files, work, progress)


def _maps(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        info, treatment = clip_info(render.clip), Treatment.from_json(render.treatment)
    target = files.work_path(f"render-{work.render_id}.zip")
    facts = write_maps(info, treatment, target, progress.frames, progress.should_stop)
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        render.report, render.key = {"maps": facts}, files.keep(target, ".zip")


def _overlay(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        clip = render.clip
        source, info, times = source_file(clip, files), clip_info(clip), clip_times(clip, files)
        treatment, graphics = Treatment.from_json(render.treatment), render.graphics or {}
        _need_space(files, render_bytes(render))
    suffix = f".{treatment.deliver.container}"
    target = files.work_path(f"render-{work.render_id}{suffix}")
    facts = overlay_clip(
        source, info, times, treatment, files.path(graphics["key"]), graphics["name"], target,
        progress.frames, progress.should_stop,
    )  # fmt: skip
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        render.report, render.key = {"overlay": facts.to_json()}, files.keep(target, suffix)


def _picture(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        clip = render.clip
        source, info, times = source_file(clip, files), clip_info(clip), clip_times(clip, files)
        treatment = Treatment.from_json(render.treatment)
        path = clip_path(session, files, clip, treatment)
        notes = solution_notes(clip_measurement(session, files, clip, treatment), treatment)
        notes += outcome_notes(path, treatment, clip_pins(session, files, clip, treatment))
        versus = _versus(session, files, render, treatment)
        _need_space(files, render_bytes(render))
    suffix = f".{treatment.deliver.container}"
    target = files.work_path(f"render-{render.id}{suffix}")
    facts = render_clip(source, info, times, path, treatment, target, progress.frames, progress.should_stop, versus)
    document: Path = files.work_path(f"render-{render.id}.json")
    document.write_text(json.dumps(path_document(path, info, times)))
    with transaction(engine) as session:
        render = session.get_one(Render, work.render_id)
        render.report = correction_report(path, treatment, info, facts, {"render": facts.seconds}, notes)
        render.key = files.keep(target, suffix)
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


def _need_space(files: FileStore, expected: int) -> None:
    free = files.free_bytes()
    if free < expected + (64 << 20):
        raise MediaError(
            f"The disk has {free / 1e9:.1f} GB left, too little for this render. Free some space and try again."
        )


_JOBS: dict[str, Job] = {
    "ingest": _ingest, "measure": _measure, "pin": _pin, "flat": _flat, "lens": _lens, "board": _board,
    "render": _render,
}  # fmt: skip
