"""The straight plate: all of a clip's picture straightened, as large as its middle was shot, motion untouched.

Graphics and tracking are made on it; ST maps and bent-back overlays relate it to the source's pixels. A lens whose
figures are keyed makes a plate of one size and scale, each frame straightened by the lens that it had.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size, resized, transform
from keen_horizon.core.lens.over_time import OpticsStage, enlargement, optics_stage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.edges import Edges
from keen_horizon.core.treatment.motion import Motion
from keen_horizon.core.treatment.optics import LensSettings, Optics

Floats = NDArray[np.float64]

TURNING = {"canvas", "roll_deg", "pitch_deg", "yaw_deg", *(f"corner_{i}" for i in range(1, 9))}  # not the lens itself


@dataclass(frozen=True)
class Plate:
    """A plate of `size` for a source of the stage's size; points are pixels of either, origin as everywhere."""

    stage: LensStage
    size: Size

    def to_source(self, points: Floats) -> Floats:
        """Plate points (N, 2) in the source; nowhere where nothing was seen."""
        return self.stage.points(transform(resized(self.stage.size, self.size), points))

    def from_source(self, points: Floats) -> Floats:
        """Source points (N, 2) on the plate; nowhere where the lens folds over."""
        return transform(resized(self.size, self.stage.size), self.stage.straighten(points))


@dataclass(frozen=True)
class Plates:
    """The plates of a range's frames, all of one `size`."""

    stage: OpticsStage
    size: Size

    def at(self, frame: int) -> Plate:
        """The plate of a frame of the clip; beyond the range that of its nearest."""
        return Plate(self.stage.at(frame), self.size)


def plate_treatment(treatment: Treatment, name: str) -> Treatment:
    """What renders the plate of the clip `name`: its lens alone, nothing lost. Raises LensError without a lens."""
    lens = _lens(treatment, name).model_copy(update={"canvas": 1.0, "enlarge": True})
    keys = tuple(track for track in treatment.optics.keys if track.figure not in TURNING)
    return treatment.model_copy(
        update={
            "optics": Optics(lens=lens, keys=keys, zoom="one"),
            "motion": Motion(intent=None, rolling_shutter="off"),
            "edges": Edges(way="leave", gap_colour=treatment.edges.gap_colour),
        }
    )


def plates_of(treatment: Treatment, size: Size, name: str, frames: tuple[int, int] = (0, 0)) -> Plates:
    """The plates of the clip `name`, shown at `size`, for a range of `frames`. Raises LensError without a lens."""
    optics = plate_treatment(treatment, name).optics
    stage = optics_stage(optics, size, *frames)
    assert stage is not None
    larger = enlargement(optics, size, *frames)
    return Plates(stage, Size(*(int(side * larger) // 2 * 2 for side in (size.width, size.height))))


def _lens(treatment: Treatment, name: str) -> LensSettings:
    if treatment.optics.lens is None:
        raise LensError(f"{name}: it has no lens yet. Set one under Optics first.")
    return treatment.optics.lens
