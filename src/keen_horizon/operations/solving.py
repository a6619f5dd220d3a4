"""Solving for a treatment from what is stored: all that is needed is read in one transaction, and computed after it."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.glass.shutter import Readout
from keen_horizon.core.keyframes import figures_over
from keen_horizon.core.mapping.drawn import drawn_optics, drawn_path
from keen_horizon.core.mapping.light import drawn_dead, drawn_fringe, drawn_haze, drawn_light
from keen_horizon.core.mapping.output import OutputFrame, output_frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.flat_thing import PlaneTrack
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.any_path import AnyPath, solve_any
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger, open_areas, pinches, shake_curves
from keen_horizon.core.path.notes import solution_notes
from keen_horizon.core.path.seen_through import hiding
from keen_horizon.core.path.solve import limit_that_hides, solve_path
from keen_horizon.core.path.sphere.figures import sphere_notes
from keen_horizon.core.path.sphere.solve import seen_up, solve_sphere
from keen_horizon.core.path.tradeoff import TradePoint, smallest_zoom
from keen_horizon.core.render.warp import suggested_sharpening
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.motion import Motion
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.findings import MOTION, covering
from keen_horizon.operations.material import clip_flat, clip_info, clip_measurement, clip_pins
from keen_horizon.operations.sphere_solution import SphereSolution
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip


@dataclass(frozen=True, kw_only=True)
class Solution:
    """A solved path as the interface draws it."""

    path: CameraPath
    rate: float
    output: OutputFrame
    motion: Motion
    pins: tuple[PinTrack, ...]
    notes: tuple[str, ...]
    optics: Optics
    hidden_at: float
    transfer: int
    flat: PlaneTrack | None
    readout: Readout
    measured: bool

    def to_json(self, known: str = "") -> dict[str, Any]:
        """Figures, curves, pinch points and the frame map, one row-major 3x3 matrix a frame.

        Tables of the lens that the asker names as `known` are left out.
        """
        before, after = shake_curves(self.path)
        percent = 100 / self.path.size.width
        frames = self.path.first + np.arange(len(self.path.zoom))
        stage = self.path.stage
        lens = drawn_optics(stage) if stage else None
        step, shown = (stage.smallest_step, lens["kept_area"]) if stage and lens else (1.0, 1.0)
        figures = ledger(self.path, self.output.magnified / step, shown)
        return {
            "first": self.path.first,
            "frames": len(self.path.zoom),
            "size": [self.path.size.width, self.path.size.height],
            "ledger": figures.to_json(),
            "notes": self.notes,
            "measured": self.measured,
            "readout": self.readout.to_json(),
            "light": drawn_light(self.optics.falloff, self.transfer, self.path.size, frames),
            "dead": drawn_dead(self.optics.falloff, self.hidden_at, limit_that_hides(self.hidden_at)),
            "fringe": drawn_fringe(self.optics.fringe, frames),
            "haze": drawn_haze(self.optics.fringe),
            "lens": {"name": known} if lens and lens["name"] == known else lens,
            "output": [self.output.size.width, self.output.size.height],
            "sharpen": suggested_sharpening(1 / figures.sharpness),
            "pinches": [asdict(pinch) for pinch in pinches(self.path, self.rate)],
            "shake_before": _rounded(before * percent, 5),
            "shake_after": _rounded(after * percent, 5),
            "keyed": {
                name: _rounded(values, 7)
                for part in (self.motion, self.optics, self.optics.falloff, self.optics.fringe)
                if part is not None
                for name, values in figures_over(part.keys, frames).items()
            },
            "pins": [pin.to_json() for pin in self.pins],
            "flat": None
            if self.flat is None
            else {
                "corners": [as_points(corners).round(2).tolist() for corners in self.flat.corners],
                "confidence": _rounded(self.flat.confidence, 3),
            },
            "wanted_zoom": _rounded(self.path.wanted_zoom, 5),
            "zoom": _rounded(self.path.zoom, 5),
            "gap_area": _rounded(open_areas(self.path), 5),
            **drawn_path(self.path),
        }


def clip_path(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> AnyPath:
    """The path for a treatment from what is stored. Raises NotPossible when something was not measured."""
    measurement = clip_measurement(session, files, clip, treatment)
    return solve_any(measurement, treatment, clip_pins(session, files, clip, treatment))


def shown_treatment(session: Session, clip: Clip, treatment: Treatment) -> Treatment:
    """What can be shown of a treatment: its optics, with the motion as shot, before any motion is measured."""
    first, last = treatment.frames(clip_info(clip).frames)
    optics = treatment.optics
    told = optics.active or any(part is not None for part in (optics.flat, optics.falloff, optics.fringe))
    if not told or covering(session, clip, MOTION, first, last) is not None:
        return treatment
    return treatment.model_copy(update={"motion": treatment.motion.model_copy(update={"intent": None})})


@dataclass(frozen=True, kw_only=True)
class Question:
    """All that solving for a treatment needs, so that no transaction is open while numbers are crunched."""

    clip: str
    info: ClipInfo
    treatment: Treatment
    measurement: Measurement
    pins: tuple[PinTrack, ...]
    flat: PlaneTrack | None
    measured: bool


def asked(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Question:
    """What is stored for a treatment. Raises NotPossible when something was not measured or followed."""
    info = clip_info(clip)
    measured = covering(session, clip, MOTION, *treatment.frames(info.frames)) is not None
    treatment = shown_treatment(session, clip, treatment)
    return Question(
        clip=clip.name, info=info, treatment=treatment, measured=measured,
        measurement=clip_measurement(session, files, clip, treatment),
        pins=clip_pins(session, files, clip, treatment), flat=clip_flat(session, files, clip, treatment),
    )  # fmt: skip


def solution_of(question: Question) -> Solution | SphereSolution:
    """The solved path with all that is shown of it."""
    info, treatment, measurement = question.info, question.treatment, question.measurement
    if measurement.sphere:
        pins = question.pins
        sphere = solve_sphere(measurement, treatment, pins)
        return SphereSolution(
            path=sphere, pins=pins, measured=question.measured, readout=measurement.readout,
            up=seen_up(measurement, treatment) if question.measured else None,
            notes=sphere_notes(measurement, treatment, sphere, pins),
        )  # fmt: skip
    path = solve_path(measurement, treatment, question.pins)
    return Solution(
        path=path, rate=info.rate, output=output_frame(path, treatment, info.coded, info.pixel_aspect),
        motion=treatment.motion, pins=question.pins, notes=solution_notes(measurement, treatment),
        optics=treatment.optics, hidden_at=hiding(path.stage, len(path), not path.turned).zoom,
        transfer=info.carried.transfer, flat=question.flat,
        readout=measurement.readout, measured=question.measured,
    )  # fmt: skip


def smallest_zoom_of(question: Question, shake_percent: float) -> TradePoint:
    """The smallest zoom that leaves no more shake than wanted. Raises NotPossible when none does."""
    point = smallest_zoom(question.measurement, question.treatment, shake_percent, question.pins)
    if point.shake_percent > shake_percent:
        raise NotPossible(
            f"{question.clip}: with these settings {point.shake_percent:.3f} % remains however much is zoomed. "
            "Lengthen the response time, or allow more kinds of correction."
        )
    return point


def _rounded(values: Any, digits: int) -> Any:
    return values.round(digits).tolist()
