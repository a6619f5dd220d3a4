"""Frames looked out of all that is around: what their points see.

"flat" keeps lines straight, "cylinder" uprights, "stereographic" small shapes, also of what lies behind, as a little
planet (Snyder 1987, Map Projections: A Working Manual). The first and the last are one family, perspectives from a
place behind the middle: none back is flat, one radius back stereographic, and what lies between blends them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Real
from keen_horizon.core.geometry.picture import Size

Projection = Literal["flat", "cylinder", "stereographic"]
ROUNDNESS: dict[Projection, float] = {"flat": 0.0, "cylinder": 0.0, "stereographic": 1.0}


@dataclass(frozen=True)
class ViewCamera:
    """A frame of `size` that shows `field` rad of what is around across its width; `roundness`, where it is told, is
    how far from flat, 0, to stereographic, 1.
    """

    size: Size
    projection: Projection
    field: float
    roundness: float | None = None

    @property
    def back(self) -> float:
        """How many radii behind the middle a view is taken from."""
        if self.roundness is None or self.projection == "cylinder":
            return ROUNDNESS[self.projection]
        return self.roundness

    @property
    def focal(self) -> float:
        """px for a radian in the middle."""
        half, back = self.field / 2, self.back
        reach = half if self.projection == "cylinder" else (1 + back) * np.sin(half) / (back + np.cos(half))
        return float(self.size.width / 2 / reach)

    @staticmethod
    def of_focal(size: Size, projection: Projection, focal: float, roundness: float | None = None) -> ViewCamera:
        """The view that has `focal` px for a radian in its middle."""
        back = ViewCamera(size, projection, 1.0, roundness).back
        reach = size.width / 2 / focal
        depth = _depth(np.array([(reach / (1 + back)) ** 2]), back)
        half = reach if projection == "cylinder" else float(np.arccos(depth[0]))
        return ViewCamera(size, projection, float(2 * half), roundness)

    def rays(self, points: NDArray[Real]) -> NDArray[Real]:
        """Rays (P, 3), of any length, that points (P, 2), px, see: x to the right, y down, z ahead."""
        x, y = ((points[..., axis] - centre) / self.focal for axis, centre in enumerate(self._middle))
        if self.projection == "cylinder":
            return np.stack([np.sin(x), y, np.cos(x)], -1)
        back = self.back
        x, y = x / (1 + back), y / (1 + back)
        depth = _depth(x * x + y * y, back)
        return np.stack([x * (back + depth), y * (back + depth), depth], -1)

    def points(self, rays: NDArray[Real]) -> NDArray[Real]:
        """The reverse of `rays`: points (P, 2), px; far away for what a view has no place for."""
        x, y, z = np.moveaxis(rays / np.linalg.norm(rays, axis=-1, keepdims=True), -1, 0)
        if self.projection == "cylinder":
            found = np.stack([np.arctan2(x, z), y / np.maximum(np.hypot(x, z), 1e-6)], -1)
        else:
            found = np.stack([x, y], -1) * ((1 + self.back) / np.maximum(self.back + z, 1e-6))[..., None]
        return np.asarray(found * self.focal + self._middle)

    @property
    def _middle(self) -> tuple[float, float]:
        return (self.size.width - 1) / 2, (self.size.height - 1) / 2


def _depth(reach: NDArray[Real], back: float) -> NDArray[Real]:
    """How far ahead, of a unit ray, lies what is seen so far from the middle (squared), from `back` behind it."""
    return np.asarray((np.sqrt(1 + reach * (1 - back * back)) - back * reach) / (1 + reach))
