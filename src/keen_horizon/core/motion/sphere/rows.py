"""Rows of a sphere that are read one after another: what each saw while the camera turned on.

A row's moment is frame + readout (row / rows - 1/2), and rows are latitudes: a ray's moment is told by how far below
the middle it lies. Within a frame the camera is taken to turn evenly; what it saw is turned to where the middle row
would have seen it.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import make_interp_spline
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Real

Floats = NDArray[np.float64]

DEGREE = 5
LEAST_FRAMES = DEGREE + 1
CLOSE = 2  # looks at which row saw a ray: rows lie closer together than a camera turns


def spins(rotations: Rotation) -> Floats:
    """How a camera turns at each frame (N, 3), rad a frame about its own axes, of `rotations` (N,)
    reference_from_camera: its small turns from frame to frame added up, as the slope of a quintic spline.
    """
    if len(rotations) < LEAST_FRAMES:
        return np.zeros((len(rotations), 3))
    steps = (rotations[:-1].inv() * rotations[1:]).as_rotvec()
    travelled = np.concatenate([np.zeros((1, 3)), np.cumsum(steps, axis=0)])
    frames = np.arange(len(rotations), dtype=np.float64)
    return np.asarray(make_interp_spline(frames, travelled, k=DEGREE)(frames, 1))


def shot_spins(rotations: Rotation, cut: NDArray[np.bool_], spins_of: Callable[[Rotation], Floats] = spins) -> Floats:
    """How a camera turns at each frame (N, 3), shot by shot: `cut` (N-1,) marks where one ends."""
    ends = [0, *(np.flatnonzero(cut) + 1).tolist(), len(rotations)]
    return np.concatenate([spins_of(rotations[start:stop]) for start, stop in pairwise(ends)])


def row_shares(rays: NDArray[Real]) -> NDArray[Real]:
    """Which row sees unit rays (..., 3): its share of the picture's height, from the middle, -1/2 to 1/2."""
    return np.asarray(np.arcsin(np.clip(rays[..., 1], -1, 1)) / np.pi)


def at_middle_row(rays: NDArray[Real], read_turns: NDArray[Real]) -> NDArray[Real]:
    """Rays (..., 3) as a frame's middle row would have seen them; `read_turns` (..., 3) are how far the camera turned
    from the first row to the last, rad.
    """
    return _turned(rays, read_turns * row_shares(rays)[..., None])


def at_own_rows(rays: NDArray[Real], read_turns: NDArray[Real]) -> NDArray[Real]:
    """The reverse of `at_middle_row`: where the rows that really saw them have rays (..., 3)."""
    seen = rays
    for _ in range(CLOSE):
        seen = _turned(rays, -read_turns * row_shares(seen)[..., None])
    return seen


def _turned(rays: NDArray[Real], turns: NDArray[Real]) -> NDArray[Real]:
    """Rays (..., 3) turned by rotation vectors (..., 3) (Rodrigues 1840)."""
    angle = np.linalg.norm(turns, axis=-1, keepdims=True)
    axis = turns / np.maximum(angle, 1e-12)
    across = np.cross(axis, rays)
    along = (axis * rays).sum(-1, keepdims=True)
    return np.asarray(np.cos(angle) * rays + np.sin(angle) * across + (1 - np.cos(angle)) * along * axis)
