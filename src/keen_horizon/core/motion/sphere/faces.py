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
WIDEST = 960  # of the sphere that faces are taken from: its pixels are about as large as theirs
_PLACES = 4  # bits of a px that outlines are drawn to
_SQUARE = Size(SIDE, SIDE).corners()
_PLANE = np.array([[FOCAL, 0, MIDDLE], [0, FOCAL, MIDDLE], [0, 0, 1]])
_RAYS = np.linalg.inv(_PLANE)
_ANSWERED = np.array([[-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]], np.float64)  # the corners of a cube's side
IN_FRONT = 0.05  # of a ray's depth: what lies beside or behind a face has no place on it
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
    """The faces of a sphere's small picture, the first ones or all, and where each shows anything; they are `finer`
    times as fine as SIDE says.
    """

    sphere: Sphere
    maps: Maps
    shown: NDArray[np.uint8]
    finer: int = 1

    @staticmethod
    def of(sphere: Sphere, finer: int = 1, count: int = len(AXES)) -> Faces:
        """So many of a sphere; its small picture's pixels are no smaller than theirs."""
        across = round(finer * WIDEST * sphere.across / (2 * np.pi))
        width = min(across, sphere.size.width)
        small = Sphere(Size(width, max(1, round(width * sphere.size.height / sphere.size.width))), sphere.across)
        side = finer * SIDE
        x, y = np.meshgrid(*[(np.arange(side) + 0.5) / finer - 0.5] * 2)
        rays = np.concatenate([face_rays(face, np.stack([x, y], -1)) for face in range(count)]).astype(np.float32)
        places = small.points(rays).astype(np.float32) + AROUND
        kernel = np.ones((2 * BORDER_PX + 1,) * 2, np.uint8)
        inside = sphere.sees(rays).astype(np.uint8).reshape(count, side, side)
        shown = np.stack([cv2.erode(face, kernel, borderType=cv2.BORDER_REPLICATE) for face in inside])
        return Faces(small, (np.ascontiguousarray(places[..., 0]), np.ascontiguousarray(places[..., 1])), shown, finer)

    def small(self, luma: Gray) -> Gray:
        """A sphere's luma at the size that faces are taken from."""
        size = self.sphere.size
        if luma.shape == (size.height, size.width):
            return luma
        halved = luma
        while halved.shape[1] >= 2 * size.width and not (halved.shape[0] % 2 or halved.shape[1] % 2):
            half = halved.shape[1] // 2, halved.shape[0] // 2
            halved = np.asarray(cv2.resize(halved, half, interpolation=cv2.INTER_AREA), np.uint8)  # by 2 it is quick
        return np.asarray(cv2.resize(halved, (size.width, size.height), interpolation=cv2.INTER_AREA), np.uint8)

    def pictures(self, small: Gray) -> NDArray[np.uint8]:
        """The faces (F, SIDE * finer, SIDE * finer) of a small luma."""
        return self._sampled(small, self.maps).reshape(self.shown.shape)

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
    part = _shared(turn)
    if len(part) < 3:
        return
    left, top = np.maximum(np.floor(part.min(0)).astype(int), 0)
    right, bottom = np.minimum(np.ceil(part.max(0)).astype(int) + 1, SIDE)
    if right <= left or bottom <= top:
        return
    moved = _PLANE @ turn @ _RAYS @ np.array([[1, 0, left], [0, 1, top], [0, 0, 1]], np.float64)
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    drawn = cv2.warpPerspective(picture, moved, (right - left, bottom - top), flags=flags)
    inside = np.zeros(drawn.shape, np.uint8)
    outline = np.rint((part - (left, top)) * (1 << _PLACES)).astype(np.int32)
    cv2.fillConvexPoly(inside, outline, 255, lineType=cv2.LINE_8, shift=_PLACES)
    cv2.copyTo(drawn, inside, face[top:bottom, left:right])


def _shared(turn: Floats) -> Floats:
    """The part (n, 2) of a face, px, that another answers for; `turn` (3, 3) takes the one's rays to the other's."""
    corners = _in_front(_ANSWERED @ turn)
    if not len(corners):
        return np.zeros((0, 2))
    placed = corners @ _PLANE.T
    outline = (placed[:, :2] / placed[:, 2:]).astype(np.float32)
    area, part = cv2.intersectConvexConvex(outline, _SQUARE.astype(np.float32))
    return np.asarray(part[:, 0], np.float64) if area > 0 else np.zeros((0, 2))


def _in_front(rays: Floats) -> Floats:
    """What of a convex outline of rays (n, 3) has a place on a face (Sutherland & Hodgman 1974)."""
    depth = rays[:, 2] - IN_FRONT
    if (depth > 0).all():
        return rays
    kept = []
    for number in range(len(rays) if (depth > 0).any() else 0):
        following = (number + 1) % len(rays)
        here, there = depth[number], depth[following]
        if here >= 0:
            kept.append(rays[number])
        if (here < 0) != (there < 0):
            kept.append(rays[number] + (rays[following] - rays[number]) * (here / (here - there)))
    return np.array(kept).reshape(-1, 3)


def face_rays(face: int, points: NDArray[np.floating]) -> Floats:
    """Unit rays (..., 3), in the camera, of a face's points (..., 2)."""
    centred = (np.asarray(points, np.float64) - MIDDLE) / FOCAL
    rays = np.concatenate([centred, np.ones((*centred.shape[:-1], 1))], -1) @ AXES[face]
    return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))
