"""Pictures of all around: equirectangular, columns proportional to longitude and rows to latitude (Snyder 1987, 12).

Rays are directions, x to the right, y down, z to the middle of the picture; longitude is turned from z to x.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size

Real = TypeVar("Real", np.float32, np.float64)  # what goes in single precision comes out so


@dataclass(frozen=True)
class Sphere:
    """An equirectangular picture of `size`, upright: `across` rad of longitude and half a turn of latitude."""

    size: Size
    across: float = 2 * np.pi

    @property
    def whole(self) -> bool:
        """Whether its left and right sides meet."""
        return self.across >= 2 * np.pi - 1e-9

    @property
    def px_per_rad(self) -> float:
        """How many of its pixels a radian has, where rows and columns are alike: along rows."""
        return self.size.height / np.pi

    def angles(self, columns: NDArray[Real], rows: NDArray[Real]) -> tuple[NDArray[Real], NDArray[Real]]:
        """Longitudes of columns and latitudes of rows, px, rad."""
        longitudes = ((columns + 0.5) / self.size.width - 0.5) * self.across
        latitudes = ((rows + 0.5) / self.size.height - 0.5) * np.pi
        return np.asarray(longitudes, columns.dtype), np.asarray(latitudes, rows.dtype)

    def rays(self, points: NDArray[Real]) -> NDArray[Real]:
        """Unit rays (..., 3) of points (..., 2), px."""
        longitude, latitude = self.angles(points[..., 0], points[..., 1])
        flat = np.cos(latitude)
        return np.stack([np.sin(longitude) * flat, np.sin(latitude), np.cos(longitude) * flat], -1)

    def points(self, rays: NDArray[Real]) -> NDArray[Real]:
        """Points (..., 2), px, of rays (..., 3) of any length; beyond the picture's sides where it is not whole."""
        x, y, z = np.moveaxis(rays, -1, 0)
        longitude, latitude = np.arctan2(x, z), np.arctan2(y, np.sqrt(x * x + z * z))
        columns = (longitude / self.across + 0.5) * self.size.width - 0.5
        return np.stack([columns, (latitude / np.pi + 0.5) * self.size.height - 0.5], -1)

    def sees(self, rays: NDArray[Real]) -> NDArray[np.bool_]:
        """Whether rays (..., 3) have a place in the picture."""
        if self.whole:
            return np.ones(rays.shape[:-1], np.bool_)
        return np.asarray(np.abs(np.arctan2(rays[..., 0], rays[..., 2])) <= self.across / 2)


def sphere_of(size: Size) -> Sphere:
    """A picture of this size as a sphere: as wide as high it shows the half before the camera, else all around."""
    half = size.width < 1.5 * size.height
    return Sphere(size, np.pi if half else 2 * np.pi)
