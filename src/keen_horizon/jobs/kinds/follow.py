"""Following something in the picture through a clip's range: a point, or a flat thing's corners."""

from __future__ import annotations

from sqlalchemy import Engine
from sqlalchemy.orm import Session

from keen_horizon.core.motion.carrying import Carrier
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.motion import PinPoint
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.jobs.kinds.material import Material, checked_digest, ranged_material
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.material import covering_flat, covering_pin, covering_range
from keen_horizon.pipeline.flat_things import flat_key, follow_clip
from keen_horizon.pipeline.pinning import mark_key, pin_clip
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, FollowedFlat, FollowedPin, Work


def pin(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Follow a pinned point through a range, unless that was done."""
    point = PinPoint.model_validate(work.details)
    with transaction(engine) as session:
        material = ranged_material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        if covering_pin(session, clip, point, material.first, material.last) is not None:
            return
        carrier = _carrier(session, files, clip, material)
    track = pin_clip(*material, point, progress.frames, progress.should_stop, carrier)
    result = files.work_path(f"pin-{work.id}.npz")
    track.save(result)
    with transaction(engine) as session:
        session.add(
            FollowedPin(
                clip_id=work.clip_id,
                source_digest=checked_digest(session, files, work.clip_id),
                marks=mark_key(point.marks),
                first=material.first,
                last=material.last,
                key=files.keep(result, ".npz"),
                lost=int((track.trail.confidence == 0).sum()),
            )
        )


def flat(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Follow a flat thing through a range, unless that was done."""
    optics = Optics.model_validate(work.details)
    assert optics.flat is not None
    with transaction(engine) as session:
        material = ranged_material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        if covering_flat(session, clip, optics, material.first, material.last) is not None:
            return
        carrier = _carrier(session, files, clip, material)
    track = follow_clip(*material, optics.flat, optics, progress.frames, progress.should_stop, carrier)
    result = files.work_path(f"flat-{work.id}.npz")
    track.save(result)
    with transaction(engine) as session:
        session.add(
            FollowedFlat(
                clip_id=work.clip_id,
                source_digest=checked_digest(session, files, work.clip_id),
                marks=flat_key(optics.flat, optics),
                first=material.first,
                last=material.last,
                key=files.keep(result, ".npz"),
                lost=int((track.confidence == 0).sum()),
            )
        )


def _carrier(session: Session, files: FileStore, clip: Clip, material: Material) -> Carrier | None:
    """What carries over stretches where nothing is seen, if the range was measured."""
    row = covering_range(session, clip, material.first, material.last)
    return None if row is None else Carrier.by(Measurement.load(files.path(row.key)))
