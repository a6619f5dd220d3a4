"""What the editor set on the source's pixels, where it lies in the straightened picture."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from keen_horizon.core.geometry.similarity import as_complex, as_points
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.motion.pin import PinTrack, Trail
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.parts import LevelLine


def straightened_marks(
    treatment: Treatment, pins: tuple[PinTrack, ...], lens: OpticsStage
) -> tuple[Treatment, tuple[PinTrack, ...]]:
    """A treatment with its level lines, and the tracks of pinned points, straightened."""
    level = treatment.motion.level
    lines = tuple(_line(line, lens) for line in level.lines)
    motion = treatment.motion.model_copy(update={"level": level.model_copy(update={"lines": lines})})
    tracks = tuple(replace(pin, trail=_trail(pin, lens)) for pin in pins)
    return treatment.model_copy(update={"motion": motion}), tracks


def _trail(pin: PinTrack, lens: OpticsStage) -> Trail:
    places = as_points(pin.trail.points)
    frames = pin.first + np.arange(len(places))
    straight = lens.each(frames, places, lambda stage, part: stage.straighten(part))
    return Trail(as_complex(straight), pin.trail.confidence)


def _line(line: LevelLine, lens: OpticsStage) -> LevelLine:
    (x1, y1), (x2, y2) = lens.straighten(line.frame, np.array([[line.x1, line.y1], [line.x2, line.y2]])).tolist()
    return line.model_copy(update={"x1": x1, "y1": y1, "x2": x2, "y2": y2})
