"""What the editor set on the source's pixels, where it lies in the straightened picture."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.lens.straightening import LensStage
from keen_horizon.core.motion.pin import PinTrack, Trail
from keen_horizon.core.treatment import LevelLine, Treatment


def straightened_marks(
    treatment: Treatment, pins: tuple[PinTrack, ...], lens: LensStage
) -> tuple[Treatment, tuple[PinTrack, ...]]:
    """A treatment with its level lines, and the tracks of pinned points, straightened."""
    level = treatment.motion.level
    lines = tuple(_line(line, lens) for line in level.lines)
    motion = treatment.motion.model_copy(update={"level": level.model_copy(update={"lines": lines})})
    tracks = tuple(replace(pin, trail=_trail(pin.trail, lens)) for pin in pins)
    return treatment.model_copy(update={"motion": motion}), tracks


def _trail(trail: Trail, lens: LensStage) -> Trail:
    return Trail(as_complex(lens.straighten(as_points(trail.points))), trail.confidence)


def _line(line: LevelLine, lens: LensStage) -> LevelLine:
    (x1, y1), (x2, y2) = lens.straighten(np.array([[line.x1, line.y1], [line.x2, line.y2]])).tolist()
    return line.model_copy(update={"x1": x1, "y1": y1, "x2": x2, "y2": y2})
