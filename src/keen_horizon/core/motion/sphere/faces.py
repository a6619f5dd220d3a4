"""A sphere's picture as six flat ones, in which points can be followed as in any other.

Faces overlap: each is wider than a cube's, so that what leaves the part it answers for is still followed.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.sphere_maps import AROUND, Maps, widened
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.tracking import Gray, Points

Floats = NDArray[np.float64]

SIDE, FIELD_DEG = 320, 100.0
FOCAL = SIDE / 2 / np.tan(np.radians(FIELD_DEG / 2))
MIDDLE = (SIDE - 1) / 2
WIDEST = 1024  # of the sphere that faces are taken from: its pixels are about as large as theirs
_PLACES = 4  # bits of a px that outlines are drawn to
_SQUARE = Size(SIDE, SIDE).corners()
BORDER_PX = 10  # that corners keep from where half a sphere ends

# Face from camera: its own x, y, z as rows. Ahead, right, behind, left, up, down.
AXES = np.array(
    [
        [[1, 0, 0], [0, 1, 0], [0, 0, 1]],
        [[0, 0, -1], [0, 1, 0], [1, 0, 0]],
        [[-1, 0, 0], [0, 1, 0], [0, 0, -1]],
        [[0, 0, 1], [0, 1, 0], [-1, 0, 0]],
        [[1, 0, 0], [0, 0, 1], [0, -1, 0]],
        [[1, 0, 0], [0, 0, -1], [0, 1, 0]],
    ],
    np.float64,
)


@dataclass(frozen=True)
class Faces:
    """The faces of a sphere's small picture, and where each shows anything."""

    sphere: Sphere
    maps: Maps
    shown: NDArray[np.uint8]

    @staticmethod
    def of(sphere: Sphere) -> Faces:
        """Those of a sphere; its small picture's pixels are no smaller than theirs."""
        across = round(WIDEST * sphere.across / (2 * np.pi))
        width = min(across, sphere.size.width)
        small = Sphere(Size(width, max(1, round(width * sphere.size.height / sphere.size.width))), sphere.across)
        x, y = np.meshgrid(np.arange(SIDE), np.arange(SIDE))
        rays = np.concatenate([face_rays(face, np.stack([x, y], -1).astype(np.float64)) for face in range(len(AXES))])
        places = small.points(rays).astype(np.float32) + AROUND
        kernel = np.ones((2 * BORDER_PX + 1,) * 2, np.uint8)
        inside = sphere.sees(rays).astype(np.uint8).reshape(len(AXES), SIDE, SIDE)
        shown = np.stack([cv2.erode(face, kernel, borderType=cv2.BORDER_REPLICATE) for face in inside])
        return Faces(small, (np.ascontiguousarray(places[..., 0]), np.ascontiguousarray(places[..., 1])), shown)

    def small(self, luma: Gray) -> Gray:
        """A sphere's luma at the size that faces are taken from."""
        size = self.sphere.size
        if luma.shape == (size.height, size.width):
            return luma
        return np.asarray(cv2.resize(luma, (size.width, size.height), interpolation=cv2.INTER_AREA), np.uint8)

    def pictures(self, small: Gray) -> NDArray[np.uint8]:
        """The faces (6, SIDE, SIDE) of a small luma."""
        return self._sampled(small, self.maps).reshape(len(AXES), SIDE, SIDE)

    def turned(self, pictures: NDArray[np.uint8], turn: Floats) -> NDArray[np.uint8]:
        """The faces of the same camera turned: what shows rays r of theirs is where rays `turn` (3, 3) r are now."""
        found = np.zeros_like(pictures)
        for face in range(len(AXES)):
            for other in range(len(AXES)):
                _lay_in(found[face], pictures[other], AXES[other] @ turn @ AXES[face].T)
        return found

    def _sampled(self, small: Gray, maps: Maps) -> NDArray[np.uint8]:
        found = cv2.remap(
            widened(small, self.sphere.whole), *maps, interpolation=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
        return np.asarray(found, np.uint8)

    def own(self, face: int, points: Points) -> Points:
        """Those of a face's points (N, 2) that are nearer its middle than any other face's, and well inside."""
        near = (np.abs(points - MIDDLE) <= FOCAL).all(-1)
        column, row = np.clip(np.rint(points), 0, SIDE - 1).astype(int).T
        return np.asarray(points[near & (self.shown[face, row, column] > 0)])


def _lay_in(face: Gray, picture: Gray, turn: Floats) -> None:
    """Draw, on a face, the part that a picture's face answers for; `turn` (3, 3) takes rays of the one to the other."""
    plane = np.array([[FOCAL, 0, MIDDLE], [0, FOCAL, MIDDLE], [0, 0, 1]])
    to_picture = plane @ turn @ np.linalg.inv(plane)
    rays = turn @ np.linalg.inv(plane)
    part = _SQUARE
    for side in (rays[2] - rays[0], rays[2] + rays[0], rays[2] - rays[1], rays[2] + rays[1]):
        part = _clipped(part, side)
        if not len(part):
            return
    left, top = np.maximum(np.floor(part.min(0)).astype(int), 0)
    right, bottom = np.minimum(np.ceil(part.max(0)).astype(int) + 1, SIDE)
    if right <= left or bottom <= top:
        return
    moved = to_picture @ np.array([[1, 0, left], [0, 1, top], [0, 0, 1]], np.float64)
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    drawn = cv2.warpPerspective(picture, moved, (right - left, bottom - top), flags=flags)
    inside = np.zeros(drawn.shape, np.uint8)
    outline = np.rint((part - (left, top)) * (1 << _PLACES)).astype(np.int32)
    cv2.fillConvexPoly(inside, outline, 255, lineType=cv2.LINE_8, shift=_PLACES)
    cv2.copyTo(drawn, inside, face[top:bottom, left:right])


def _clipped(polygon: Floats, side: Floats) -> Floats:
    """A convex polygon (n, 2) where `side` . (x, y, 1) is not negative (Sutherland & Hodgman 1974)."""
    room = polygon @ side[:2] + side[2]
    kept = []
    for number, (here, there) in enumerate(zip(room, np.roll(room, -1), strict=True)):
        corner, following = polygon[number], polygon[(number + 1) % len(polygon)]
        if here >= 0:
            kept.append(corner)
        if (here < 0) != (there < 0):
            kept.append(corner + (following - corner) * (here / (here - there)))
    return np.array(kept).reshape(-1, 2)


def face_rays(face: int, points: NDArray[np.floating]) -> Floats:
    """Unit rays (..., 3), in the camera, of a face's points (..., 2)."""
    centred = (np.asarray(points, np.float64) - MIDDLE) / FOCAL
    rays = np.concatenate([centred, np.ones((*centred.shape[:-1], 1))], -1) @ AXES[face]
    return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))
