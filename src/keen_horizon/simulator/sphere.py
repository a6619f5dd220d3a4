"""A world painted on the faces of a cube, seen all around by a camera in its middle."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.motion.sphere.faces import AXES

Picture = NDArray[np.uint8]
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class CubeWorld:
    """Six square pictures (6, side, side, 3): ahead, right, behind, left, up, down; x right, y down, z ahead."""

    faces: Picture

    @staticmethod
    def of(pictures: list[Picture], side: int) -> CubeWorld:
        """The pictures' middles, as six faces of so many px; few pictures come again."""
        squares = []
        for face in range(6):
            picture = pictures[face % len(pictures)]
            least = min(picture.shape[:2])
            top, left = ((length - least) // 2 for length in picture.shape[:2])
            square = picture[top : top + least, left : left + least]
            kernel = cv2.INTER_AREA if least > side else cv2.INTER_CUBIC
            squares.append(cv2.resize(square, (side, side), interpolation=kernel))
        return CubeWorld(np.stack(squares))

    def seen(self, rays: Floats) -> Picture:
        """The world's colours (rows, columns, 3) along rays (rows, columns, 3)."""
        side = self.faces.shape[1]
        middle = AXES[:, 2]
        nearest = (rays @ middle.T).argmax(-1)
        found = np.zeros((*rays.shape[:2], 3), np.uint8)
        for face, axes in enumerate(AXES):
            own = rays @ axes.T
            places = (own[..., :2] / np.maximum(own[..., 2:], 1e-6) + 1) * side / 2 - 0.5
            looked = cv2.remap(
                self.faces[face],
                places[..., 0].astype(np.float32),
                places[..., 1].astype(np.float32),
                interpolation=cv2.INTER_LINEAR,
                borderMode=cv2.BORDER_REPLICATE,
            )
            found[nearest == face] = looked[nearest == face]
        return found


class World(Protocol):
    """What is all around a camera that only turns."""

    def seen(self, rays: Floats) -> Picture:
        """The colours (rows, columns, 3) along rays (rows, columns, 3)."""


@dataclass(frozen=True)
class SphereFilm:
    """What a camera in the middle of a world sees that stands at `rotations` (N,), world_from_camera."""

    world: World
    sphere: Sphere
    rotations: Rotation

    def pictures(self, carried: float = 0.0) -> Iterator[Picture]:
        """The pictures (rows, columns, 3); `carried` is the share of each, from below, that turns with the camera."""
        size = self.sphere.size
        x, y = np.meshgrid(np.arange(size.width), np.arange(size.height))
        rays = self.sphere.rays(np.stack([x, y], -1).astype(np.float64))
        below = round(size.height * (1 - carried))
        standing = self.world.seen(rays[below:]) if carried else None
        for matrix in self.rotations.as_matrix():
            picture = self.world.seen(rays @ matrix.T)
            if standing is not None:
                picture[below:] = standing
            yield picture
