"""Frames looked out of all that is around: what their points see.

"flat" keeps lines straight, "cylinder" uprights, "stereographic" small shapes, also of what lies behind, as a little
planet (Snyder 1987, Map Projections: A Working Manual).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Real
from keen_horizon.core.geometry.picture import Size

Projection = Literal["flat", "cylinder", "stereographic"]


@dataclass(frozen=True)
class ViewCamera:
    """A frame of `size` that shows `field` rad of what is around across its width."""

    size: Size
    projection: Projection
    field: float

    @property
    def focal(self) -> float:
        """px for a radian in the middle."""
        half = self.field / 2
        reach = {"flat": np.tan(half), "cylinder": half, "stereographic": 2 * np.tan(half / 2)}[self.projection]
        return float(self.size.width / 2 / reach)

    def rays(self, points: NDArray[Real]) -> NDArray[Real]:
        """Rays (P, 3), of any length, that points (P, 2), px, see: x to the right, y down, z ahead."""
        x, y = ((points[..., axis] - centre) / self.focal for axis, centre in enumerate(self._middle))
        if self.projection == "flat":
            return np.stack([x, y, np.ones_like(x)], -1)
        if self.projection == "cylinder":
            return np.stack([np.sin(x), y, np.cos(x)], -1)
        return np.stack([x, y, 1 - (x * x + y * y) / 4], -1)

    def points(self, rays: NDArray[Real]) -> NDArray[Real]:
        """The reverse of `rays`: points (P, 2), px; far away for what a flat picture has no place for."""
        x, y, z = np.moveaxis(rays / np.linalg.norm(rays, axis=-1, keepdims=True), -1, 0)
        if self.projection == "flat":
            depth = np.maximum(z, 1e-6)
            found = np.stack([x / depth, y / depth], -1)
        elif self.projection == "cylinder":
            found = np.stack([np.arctan2(x, z), y / np.maximum(np.hypot(x, z), 1e-6)], -1)
        else:
            found = np.stack([x, y], -1) * (2 / np.maximum(1 + z, 1e-6))[..., None]
        return np.asarray(found * self.focal + self._middle)

    @property
    def _middle(self) -> tuple[float, float]:
        return (self.size.width - 1) / 2, (self.size.height - 1) / 2
