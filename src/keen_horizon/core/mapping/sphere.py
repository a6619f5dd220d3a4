"""The sampling map of a sphere: for the samples of a delivered plane, those of the sphere's plane.

Places are told about where the delivered picture's middle looks, so that the sphere's sides meet behind it: columns go
on below 0 and beyond the last, and are wrapped when they are looked up.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.sphere_maps import Maps, sphere_maps
from keen_horizon.core.geometry.picture import transform
from keen_horizon.core.mapping.sampling import PlaneGrid
from keen_horizon.core.motion.sphere.rows import at_own_rows
from keen_horizon.core.path.sphere.sphere_path import SpherePath

Floats = NDArray[np.float64]


def sphere_plane_maps(path: SpherePath, frame: int, target: PlaneGrid, source: PlaneGrid) -> Maps:
    """Where each sample of the target plane comes from in the source plane: columns and rows, float32."""
    camera, turn, sphere = path.out_camera(frame), path.turn(frame), path.sphere
    middle = _looked_at(path, frame) if sphere.whole else 0.0
    about = _about_vertical(-middle)
    back, read_turn = about @ turn, about @ path.read_turns[frame - path.first]

    def rays(points: Floats) -> Floats:
        seen = np.asarray(camera.rays(transform(target.display_from_plane, points)) @ back.T)
        if not read_turn.any():
            return seen
        return at_own_rows(seen / np.linalg.norm(seen, axis=1, keepdims=True), read_turn)

    columns, rows = sphere_maps(sphere, rays, *target.shape)
    shift = middle / sphere.across * sphere.size.width
    across, down = source.display_from_plane[0], source.display_from_plane[1]
    columns = (columns + np.float32(shift - across[2])) / np.float32(across[0])
    return columns, (rows - np.float32(down[2])) / np.float32(down[1])


def _looked_at(path: SpherePath, frame: int) -> float:
    """The longitude, rad, in the clip's own picture, of what the delivered one's middle shows."""
    if isinstance(path.out_camera(frame), Sphere):
        return 0.0
    x, _, z = path.turn(frame)[:, 2]
    return float(np.arctan2(x, z))


def _about_vertical(angle: float) -> Floats:
    turned, ahead = np.sin(angle), np.cos(angle)
    return np.array([[ahead, 0, turned], [0, 1, 0], [-turned, 0, ahead]])
