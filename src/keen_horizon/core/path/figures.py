"""Shake as a number: how jerkily the corners of the picture move.

The second difference of a corner's position is zero for a camera that stands or pans evenly; its root
mean square over corners is given in px per frame squared, and in percent of the width for people.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.path.window import centred_corners

Floats = NDArray[np.float64]


def shake_per_frame(poses: Similarities, size: Size) -> Floats:
    """RMS over the corners, per frame (N,), px per frame squared; ends repeat their neighbours."""
    if len(poses) < 3:
        return np.zeros(len(poses))
    corners = poses.apply(centred_corners(size))
    second = corners[2:] - 2 * corners[1:-1] + corners[:-2]
    inner = np.sqrt((np.abs(second) ** 2).mean(1))
    return np.concatenate([inner[:1], inner, inner[-1:]])


def shake(poses: Similarities, size: Size) -> float:
    """The RMS over all frames, px per frame squared."""
    values = shake_per_frame(poses, size)
    inner = values[1:-1] if len(values) > 2 else values
    return float(np.sqrt((inner**2).mean())) if len(inner) else 0.0


def lanes(poses: Similarities, tilts: Complex, size: Size) -> dict[str, float]:
    """Shake by kind of motion, each as what it does to a corner, px per frame squared."""
    if len(poses) < 3:
        return {"shift": 0.0, "turn": 0.0, "size": 0.0, "tilt": 0.0}
    log = np.log(poses.z / poses.z[0])
    second = {
        "shift": np.abs(np.diff(poses.t, 2)),
        "turn": np.abs(np.diff(np.unwrap(log.imag), 2)) * size.half_diagonal,
        "size": np.abs(np.diff(log.real, 2)) * size.half_diagonal,
        "tilt": np.abs(np.diff(tilts, 2)) * size.half_diagonal**2,
    }
    return {name: float(np.sqrt((values**2).mean())) for name, values in second.items()}
