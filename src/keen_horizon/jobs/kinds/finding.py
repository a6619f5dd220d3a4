"""Finding something about a clip: its motion, where a point or a flat thing goes, its lens.

One task for all of them. What was found is a row, and a file where it is more than facts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.lens_by_motion.points import sweep
from keen_horizon.core.motion.carrying import Carrier
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.sphere.figures import turning_changes
from keen_horizon.core.treatment.motion import PinPoint
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.jobs.kinds.material import Material, checked_digest, ranged_material
from keen_horizon.jobs.progress import Progress
from keen_horizon.operations.findings import (
    FALLOFF,
    FINER_MOTION,
    FRINGE,
    LENS,
    MOTION,
    OF_PLAIN,
    Sought,
    covering,
    keep_finding,
    measured_elsewhere,
    measuring_rate,
)
from keen_horizon.operations.optics import told
from keen_horizon.operations.treating import offer_lens
from keen_horizon.pipeline.finding import find_clip_lens
from keen_horizon.pipeline.flat_field import measure_flat_field
from keen_horizon.pipeline.flat_things import follow_clip
from keen_horizon.pipeline.glass import measure_glass
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.pinning import mark_key, pin_clip
from keen_horizon.store.database import transaction
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Finding, Work

Facts = dict[str, Any]
LEAST_SWEEP = 0.15  # half-diagonals that the picture's middle moves over: below, the motion hardly tells a lens
Saving = Callable[[Path], None]


@dataclass(frozen=True)
class Search:
    """What a search starts from: `checkpoint` names a file to go on from, `motion` is what was measured of it."""

    material: Material
    details: Facts
    progress: Progress
    checkpoint: Path
    motion: Measurement | None

    @property
    def carrier(self) -> Carrier | None:
        """What carries over stretches where nothing is seen, if the range was measured."""
        return None if self.motion is None else Carrier.by(self.motion)


@dataclass(frozen=True)
class Found:
    """The facts of a finding, how to write the rest of it, where there is more, and what was found along with it."""

    facts: Facts
    save: Saving | None = None
    along: tuple[Sought, Facts] | None = None


def finding(engine: Engine, files: FileStore, work: Work, progress: Progress) -> None:
    """Look for what the work is for, unless that was found.

    What the clip shows of its glass is looked for anew, unless that was found along with something else meanwhile.
    Motion that was measured of the same pictures on another shelf is taken from there.
    """
    sought = Sought.of(work)
    of_motion = sought.kind == MOTION.kind
    kind = f"{work.kind}-finer" if sought == FINER_MOTION else work.kind
    stem = f"{kind}-{work.clip_id if of_motion else work.id}-{work.first}-{work.last}"
    with transaction(engine) as session:
        material = ranged_material(session, files, work)
        clip = session.get_one(Clip, work.clip_id)
        checkpoint = files.work_path(f"{stem}-{(clip.digest or '')[:16]}.checkpoint")
        known = covering(session, clip, sought, material.first, material.last)
        motion = None if of_motion else _motion_of(session, files, clip, material)
        since = known is not None and known.created_at > work.created_at and sought != OF_PLAIN
    if known is None or (sought in LOOKED_FOR_ANEW and not since):
        taken = _measured_elsewhere(engine, files, work, material) if of_motion and known is None else None
        search = Search(material, work.details or {}, progress, checkpoint, motion)
        found = taken or SEARCHES[sought.kind](search)
        result = files.work_path(f"{stem}.npz")
        if found.save is not None:
            found.save(result)
        with transaction(engine) as session:
            digest = checked_digest(session, files, work.clip_id)
            whose = {"clip_id": work.clip_id, "source_digest": digest, "first": material.first, "last": material.last}
            key = files.keep(result, ".npz") if found.save else None
            keep_finding(session, sought, Finding(**whose, facts=found.facts, key=key))
            if of_motion and found.facts["sweep"] >= LEAST_SWEEP:
                offer_lens(session, session.get_one(Clip, work.clip_id), material.first, material.last)
            if found.along is not None:
                other, facts = found.along
                if facts["enough"] or covering(session, clip, other, material.first, material.last) is None:
                    keep_finding(session, other, Finding(**whose, facts=facts))
    checkpoint.unlink(missing_ok=True)


def _motion(search: Search) -> Found:
    progress, finer = search.progress, bool(search.details.get("finer"))
    measured = measure_clip(*search.material, progress.frames, progress.should_stop, search.checkpoint, finer=finer)
    facts = {
        "finer": finer,
        "shake_percent": 100 * _shake(measured),
        "blind_pairs": int(measured.blind.sum()),
        "cuts": int(measured.cut.sum()),
        "sweep": 0.0 if measured.sphere else round(sweep(measured), 4),
    }
    return Found(facts, measured.save)


def _measured_elsewhere(engine: Engine, files: FileStore, work: Work, material: Material) -> Found | None:
    """What another shelf knows of the same pictures' motion, where that tells all that measuring them would."""
    with transaction(engine) as session:
        clip = session.get_one(Clip, work.clip_id)
        row = measured_elsewhere(session, clip, Sought.of(work), material.first, material.last)
        if row is None or "sweep" not in row.facts or not files.path(row.key or "").exists():
            return None
        facts = row.facts | {"measured_fps": measuring_rate(row.clip)}
        measured = Measurement.load(files.path(row.key or ""))
    return Found(facts, measured.save) if measured.complete else None


def _shake(measured: Measurement) -> float:
    """Of the picture's width, per frame squared."""
    if measured.sphere:
        rotations = sphere_turns(measured, sphere_of(measured.size)).rotations
        return float(np.sqrt((turning_changes(rotations) ** 2).mean())) / 360
    return shake(measured.poses.about(measured.size.centre), measured.size) / measured.size.width


def _pin(search: Search) -> Found:
    point, progress = PinPoint.model_validate(search.details), search.progress
    track = pin_clip(*search.material, point, progress.frames, progress.should_stop, search.motion)
    return Found({"marks": mark_key(point.marks), "lost": int((track.trail.confidence == 0).sum())}, track.save)


def _flat(search: Search) -> Found:
    optics, progress = Optics.model_validate(search.details), search.progress
    assert optics.flat is not None
    track = follow_clip(*search.material, optics.flat, optics, progress.frames, progress.should_stop, search.carrier)
    return Found({"lost": int((track.confidence == 0).sum())}, track.save)


def _lens(search: Search) -> Found:
    """The lens by itself. One that nobody asked for, and that there is not, is no failure."""
    try:
        found = find_clip_lens(
            *search.material, search.progress.frames, search.progress.should_stop, motion=search.motion
        )
    except LensError as error:
        if not search.details.get("offered"):
            raise
        return Found({"lens": None, "why": str(error)})
    edges = [{"frame": edge.frame, "points": edge.points.round(2).tolist()} for edge in found.edges]
    return Found(
        {
            "lens": told(found.lens),
            "focal": None if found.focal is None or found.lens.kind.angular else round(found.focal, 5),
            "by": found.by,
            "straightedges": edges,
            "confidence": round(found.confidence, 3),
            "bends_px": round(found.bends_px(search.material.info.display), 3),
        }
    )


def _light_and_colours(search: Search) -> tuple[Facts, Facts]:
    """What the glass does to both: one reading of the clip tells it."""
    source, info, times, _, _ = search.material
    assert search.motion is not None
    progress = search.progress
    light, colours = measure_glass(source, info, times, search.motion, progress.frames, progress.should_stop)
    return light.to_json(), colours.to_json()


def _falloff(search: Search) -> Found:
    if not search.details.get("plain"):
        light, colours = _light_and_colours(search)
        return Found(light, along=(FRINGE, colours))
    source, info, times, first, last = search.material
    progress = search.progress
    found = measure_flat_field(source, info, times, (first, last), progress.frames, progress.should_stop)
    return Found(found.to_json())


def _fringe(search: Search) -> Found:
    light, colours = _light_and_colours(search)
    return Found(colours, along=(FALLOFF, light))


SEARCHES: dict[str, Callable[[Search], Found]] = {
    "measure": _motion, "pin": _pin, "flat": _flat, "lens": _lens,
    "falloff": _falloff, "fringe": _fringe,
}  # fmt: skip
LOOKED_FOR_ANEW = (MOTION, FINER_MOTION, LENS, FALLOFF, FRINGE)


def _motion_of(session: Session, files: FileStore, clip: Clip, material: Material) -> Measurement | None:
    """The motion of the range, if it was measured."""
    row = covering(session, clip, MOTION, material.first, material.last)
    return None if row is None else Measurement.load(files.path(row.key or ""))
