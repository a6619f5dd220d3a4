"""What the camera carries along, as areas of the picture that an editor may have ignored."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere, sphere_of
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.matched import analysed_size, analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.carried import cells_of, told_carried
from keen_horizon.core.motion.sphere.matches import SphereMatches
from keen_horizon.core.motion.sphere.turns import sphere_turns

Floats = NDArray[np.float64]
Value = TypeVar("Value", bound=np.generic)

LEAST_SHARE = 0.01  # of all around: a cell by itself is a little less
CLOSER_DEG = 4.0  # of cells that tell where its edge is, once the large ones told that it is there
BESIDE_PX, SOFT_PX, OUTLINE_PX = 14, 8.0, 1.5  # of the analysis, where a large cell is 21 px a side
AROUND_PX = 32  # that a picture goes on for: more than either reaches
LEAST_FRAMES = 3


@dataclass(frozen=True)
class Carried:
    """Something that stands still in the picture while the world turns: its `share` of all around, the share of its
    points that say so, and its outline (C, 2), px, which may go on beyond the picture's sides. It is told for all
    frames from clip number `first` on.
    """

    share: float
    confidence: float
    polygon: Floats
    first: int

    def to_json(self) -> dict[str, Any]:
        """Plain values for documents."""
        key = {"frame": self.first, "polygon": self.polygon.round(1).tolist()}
        return {"share": round(self.share, 3), "confidence": round(self.confidence, 2), "keys": [key]}


@kept_lately
def carried_along(measurement: Measurement) -> tuple[Carried, ...]:
    """What a camera that sees all around carries along, the largest first."""
    sphere = sphere_of(measurement.size)
    if len(measurement) < LEAST_FRAMES:
        return ()
    matches, turns = SphereMatches.tracked(measurement, sphere), sphere_turns(measurement, sphere).pairs.as_matrix()
    size = analysed_size(measurement.size)
    rays = _rays(size, sphere)
    told, closer = told_carried(matches, turns), told_carried(matches, turns, CLOSER_DEG)
    cells = cells_of(rays)[0]
    mask = _beside(told.carried[cells]) & (_soft(closer.sure[cells_of(rays, CLOSER_DEG)[0]]) > 0)
    empty = np.flatnonzero(~mask.any(0))
    rolled = int(empty[0]) if len(empty) and sphere.whole else 0  # what crosses the sides stays in one piece
    whole = np.roll(mask, -rolled, 1).astype(np.uint8)
    outlines, _ = cv2.findContours(whole, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    found = [_outlined(outline, rolled, told.agreeing[cells], measurement) for outline in outlines]
    return tuple(sorted((each for each in found if each.share >= LEAST_SHARE), key=lambda each: -each.share))


def _rays(size: Size, sphere: Sphere) -> Floats:
    """Those of every pixel of the analysis (rows, columns, 3)."""
    column, row = np.meshgrid(np.arange(size.width), np.arange(size.height))
    return Sphere(size, sphere.across).rays(np.stack([column, row], -1).astype(np.float64))


def _beside(mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """A mask of all around and what is next to it."""
    wide = _wrapped(mask.astype(np.uint8))
    wider = np.asarray(cv2.dilate(wide, np.ones((2 * BESIDE_PX + 1,) * 2, np.uint8)), np.uint8)
    return np.asarray(_unwrapped(wider) > 0)


def _soft(values: Floats) -> Floats:
    """Values of all around, each with what is about it."""
    blurred = cv2.GaussianBlur(_wrapped(values), (0, 0), SOFT_PX, borderType=cv2.BORDER_REPLICATE)
    return _unwrapped(np.asarray(blurred, np.float64))


def _wrapped(values: NDArray[Value]) -> NDArray[Value]:
    """A picture that goes on at both sides."""
    return np.pad(values, ((0, 0), (AROUND_PX, AROUND_PX)), mode="wrap")


def _unwrapped(values: NDArray[Value]) -> NDArray[Value]:
    return values[:, AROUND_PX:-AROUND_PX]


def _outlined(outline: NDArray[np.int32], rolled: int, agreeing: Floats, measurement: Measurement) -> Carried:
    height, width = agreeing.shape
    inside = np.zeros((height, width), np.uint8)
    cv2.drawContours(inside, [outline], 0, 1, cv2.FILLED)
    inside = np.roll(inside, rolled, 1)
    room = np.cos(((np.arange(height) + 0.5) / height - 0.5) * np.pi)[:, None] * inside  # rows near a pole are short
    across = sphere_of(measurement.size).across / (2 * np.pi)
    corners = cv2.approxPolyDP(outline, OUTLINE_PX, True)[:, 0].astype(np.float64)
    corners[:, 0] += rolled
    return Carried(
        share=float(room.sum() / (2 / np.pi * height * width) * across),
        confidence=float((room * agreeing).sum() / room.sum()),
        polygon=(corners + 0.5) * analysed_unit(measurement.size) - 0.5,
        first=measurement.first,
    )
