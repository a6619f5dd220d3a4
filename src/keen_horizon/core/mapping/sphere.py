"""The frame map of a sphere, by rays.

Of planes, places are told about where the delivered picture's middle looks, so that the sphere's sides meet behind it:
columns go on below 0 and beyond the last, and are wrapped when they are looked up.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.sphere_maps import Maps, sphere_maps, turned_maps
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.motion.sphere.rows import at_own_rows
from keen_horizon.core.path.sphere.sphere_path import SpherePath

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]


@dataclass(frozen=True)
class SphereMap:
    """The frame map of a sphere's path."""

    path: SpherePath

    def places(self, frame: int, points: Floats) -> Floats:
        """Where points (N, 2) of the picture delivered for a clip's frame come from."""
        path = self.path
        seen = path.out_camera(frame).rays(points) @ path.turn(frame).T
        seen = seen / np.linalg.norm(seen, axis=1, keepdims=True)
        return path.sphere.points(at_own_rows(seen, path.read_turns[frame - path.first]))

    def plane_maps(self, frame: int, target: PlaneGrid, source: PlaneGrid) -> Maps:
        """Where each sample of a delivered plane comes from in the sphere's plane."""
        path = self.path
        camera, turn, sphere = path.out_camera(frame), path.turn(frame), path.sphere
        middle = _looked_at(path, frame) if sphere.whole else 0.0
        about = _about_vertical(-middle)
        back = (about @ turn).astype(np.float32)
        read_turn = (about @ path.read_turns[frame - path.first]).astype(np.float32)
        at_once = not read_turn.any()
        scale, start = (target.display_from_plane[[0, 1], at].astype(np.float32) for at in ([0, 1], [2, 2]))

        def moved(seen: Singles) -> Singles:
            return at_own_rows(seen, read_turn)

        def rays(points: Singles) -> Singles:
            seen = camera.rays(points * scale + start) @ back.T
            return seen if at_once else moved(seen / np.linalg.norm(seen, axis=1, keepdims=True))

        if isinstance(camera, Sphere):
            height, width = target.shape
            across_out, down_out = np.arange(width) * scale[0] + start[0], np.arange(height) * scale[1] + start[1]
            angles = camera.angles(across_out.astype(np.float32), down_out.astype(np.float32))
            columns, rows = turned_maps(sphere, angles, back, None if at_once else moved)
        else:
            columns, rows = sphere_maps(sphere, rays, *target.shape)
        shift = middle / sphere.across * sphere.size.width
        across, down = source.display_from_plane[0], source.display_from_plane[1]
        return _placed(columns, shift - across[2], across[0]), _placed(rows, -down[2], down[1])


def _placed(places: Singles, shift: float, step: float) -> Singles:
    """Places of the sphere's picture, px, as samples of a plane; changed where they are."""
    if shift:
        places += np.float32(shift)
    if step != 1:
        places /= np.float32(step)
    return places


def _looked_at(path: SpherePath, frame: int) -> float:
    """The longitude, rad, in the clip's own picture, of what the delivered one's middle shows."""
    if isinstance(path.out_camera(frame), Sphere):
        return 0.0
    x, _, z = path.turn(frame)[:, 2]
    return float(np.arctan2(x, z))


def _about_vertical(angle: float) -> Floats:
    turned, ahead = np.sin(angle), np.cos(angle)
    return np.array([[ahead, 0, turned], [0, 1, 0], [-turned, 0, ahead]])
