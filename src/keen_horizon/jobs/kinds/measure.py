"""Measuring the motion of a clip's range."""

from __future__ import annotations

from sqlalchemy import Engine

from keen_horizon.core.path.figures import shake
from keen_horizon.jobs.kinds.material import checked_digest, ranged_material
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.material import covering_range
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, MeasuredRange, Work


def measure(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Measure, going on from a checkpoint, unless that was done."""
    with transaction(engine) as session:
        material = ranged_material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        known = covering_range(session, clip, material.first, material.last)
        stem = f"measure-{work.clip_id}-{work.first}-{work.last}"
        checkpoint = files.work_path(f"{stem}-{(clip.digest or '')[:16]}.checkpoint")
    if known is None:
        measurement = measure_clip(*material, progress.frames, progress.should_stop, checkpoint)
        result = files.work_path(f"{stem}.npz")
        measurement.save(result)
        before = shake(measurement.poses.about(measurement.size.centre), measurement.size)
        with transaction(engine) as session:
            session.add(
                MeasuredRange(
                    clip_id=work.clip_id,
                    source_digest=checked_digest(session, files, work.clip_id),
                    first=material.first,
                    last=material.last,
                    key=files.keep(result, ".npz"),
                    shake_percent=100 * before / measurement.size.width,
                    blind_pairs=int(measurement.blind.sum()),
                    cuts=int(measurement.cut.sum()),
                )
            )
    checkpoint.unlink(missing_ok=True)
