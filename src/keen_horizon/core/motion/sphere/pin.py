"""Following one point of a subject on a sphere: in a flat picture looked out of it, towards where it was seen last.

That picture keeps its direction in the scene while the camera turns, as far as its turns are known, so that only the
subject's own way is left to follow (see `motion.pin`); it is aimed anew when the subject comes near its border.
"""

from __future__ import annotations

from collections.abc import Iterable

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.sphere_maps import AROUND, sphere_maps, widened
from keen_horizon.core.cameras.view import ViewCamera
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.pin import PinTrack, PointFollower, Trail
from keen_horizon.core.motion.sphere.rows import at_middle_row

Gray = NDArray[np.uint8]
Floats = NDArray[np.float64]

FIELD = np.radians(60.0)
NEAR_DEG = 10.0  # of the picture's middle: further out it is aimed anew


class SphereFollower:
    """Follows a point (2,), px, of a sphere's luma through those given next, each with its turn reference_from_camera
    (3, 3).
    """

    def __init__(self, sphere: Sphere, luma: Gray, point: Floats, turn: Floats) -> None:
        side = 2 * round(np.tan(FIELD / 2) * sphere.px_per_rad)
        self.sphere, self.camera = sphere, ViewCamera(Size(side, side), "flat", FIELD)
        self.aimed = _towards(turn @ sphere.rays(point))  # reference_from_picture
        self.before = luma, turn
        self.follower = PointFollower(self._picture(luma, turn), complex(side - 1, side - 1) / 2)

    def follow(self, luma: Gray, turn: Floats) -> tuple[complex, float]:
        """The point, px, in the next luma, and its correlation: 0 when lost, with where it was in the scene."""
        seen = self._seen()
        if np.degrees(np.arccos(np.clip(seen @ self.aimed[:, 2], -1, 1))) > NEAR_DEG:
            self._aim(seen)
        _, correlation = self.follower.follow(self._picture(luma, turn))
        self.before = luma, turn
        place = self.sphere.points(turn.T @ self._seen())
        return complex(place[0], place[1]), correlation

    def _seen(self) -> Floats:
        """The unit ray (3,) of the reference on which the point lies."""
        point = self.follower.point
        ray = self.camera.rays(np.array([[point.real, point.imag]]))[0]
        return np.asarray(self.aimed @ (ray / np.linalg.norm(ray)))

    def _aim(self, ray: Floats) -> None:
        """Aim the picture at a ray, turned no more than that needs."""
        axis = np.cross(self.aimed[:, 2], ray)
        angle = np.arctan2(np.linalg.norm(axis), self.aimed[:, 2] @ ray)
        nearest = Rotation.from_rotvec(axis * (angle / max(1e-12, float(np.linalg.norm(axis)))))
        self.aimed = nearest.as_matrix() @ self.aimed
        self.follower.previous = self._picture(*self.before)
        self.follower.point = complex(self.camera.size.width - 1, self.camera.size.height - 1) / 2

    def _picture(self, luma: Gray, turn: Floats) -> Gray:
        back = (turn.T @ self.aimed).astype(np.float32)
        side = self.camera.size.width
        x, y = sphere_maps(self.sphere, lambda points: self.camera.rays(points) @ back.T, side, side)
        wide = widened(luma, self.sphere.whole)
        looked = cv2.remap(wide, x + np.float32(AROUND), y + np.float32(AROUND), cv2.INTER_LINEAR)
        return np.asarray(looked, np.uint8)


def _towards(ray: Floats) -> Floats:
    """A turn (3, 3) whose third axis is a unit ray; its rows lie level where that is possible."""
    yaw, pitch = np.arctan2(ray[0], ray[2]), np.arcsin(np.clip(-ray[1], -1, 1))
    return np.asarray(Rotation.from_euler("YX", [yaw, pitch]).as_matrix())


def follow_on_sphere(sphere: Sphere, lumas: Iterable[Gray], point: Floats, turns: Iterable[Floats]) -> Trail:
    """The trail, px, of a point (2,) through lumas, of which the first is the one it was set on, each with its turn."""
    pictures = iter(zip(lumas, turns, strict=False))
    luma, turn = next(pictures)
    follower = SphereFollower(sphere, luma, point, turn)
    found = [(complex(point[0], point[1]), 1.0), *(follower.follow(luma, turn) for luma, turn in pictures)]
    return Trail(np.array([place for place, _ in found]), np.array([correlation for _, correlation in found]))


def scene_rays(
    track: PinTrack, sphere: Sphere, first: int, rotations: Rotation, read_turns: Floats | None = None
) -> Floats:
    """Unit rays (N, 3) of the reference to a followed point at frames from `first` on, whose camera stood at
    `rotations` (N,) and turned by `read_turns` (N, 3) while its rows were read; where the point was lost, it goes
    evenly through the scene.
    """
    trail = track.part(first, first + len(rotations) - 1).trail
    rays = sphere.rays(np.stack([trail.points.real, trail.points.imag], -1))
    rays = rotations.apply(rays if read_turns is None else at_middle_row(rays, read_turns))
    known = np.flatnonzero(trail.confidence > 0)
    if 0 < len(known) < len(rays):
        frames = np.arange(len(rays))
        rays = np.stack([np.interp(frames, known, rays[known, axis]) for axis in range(3)], -1)
    return np.asarray(rays / np.maximum(1e-9, np.linalg.norm(rays, axis=1, keepdims=True)))
