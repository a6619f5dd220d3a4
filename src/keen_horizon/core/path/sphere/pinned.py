"""Pin all around: turns that keep a subject where it was chosen, upright, or follow it with a lag."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_banded
from scipy.spatial.transform import Rotation

Floats = NDArray[np.float64]


def pinned(rays: Floats, chosen: Floats, upright: Rotation) -> Rotation:
    """Turns reference_from_camera (N,) that keep rays (N, 3) of the reference on the camera's ray `chosen` (3,).

    Where the subject is seen, the camera stands upright as `upright`, reference_from_upright, does.
    """
    yaw, pitch = _heading(upright.inv().apply(rays))
    kept_yaw, kept_pitch = _heading(chosen[None])
    to_subject = Rotation.from_euler("YX", np.stack([np.unwrap(yaw), pitch - kept_pitch[0]], -1))
    return upright * to_subject * Rotation.from_euler("Y", -kept_yaw[0])


def pinned_by_two(rays: tuple[Floats, Floats], chosen: tuple[Floats, Floats]) -> Rotation:
    """Turns reference_from_camera (N,) that keep a first subject where it was chosen, as `pinned` says, and turn the
    picture about it so that a second one comes nearest to where it was.
    """
    there, weights = np.stack(chosen), [np.inf, 1.0]
    turns = [Rotation.align_vectors(np.stack(seen), there, weights)[0] for seen in zip(*rays, strict=True)]
    return Rotation.concatenate(turns)


def lagging(rays: Floats, upright: Rotation, frames: float) -> Floats:
    """Unit rays (N, 3) that follow others, by `frames` late once those go evenly; they start with them.

    Two low-passes of first order, one after the other, of which each takes half of the lag: what jerks is rounded off.
    """
    if frames <= 0:
        return rays
    yaw, pitch = _heading(upright.inv().apply(rays))
    angles = np.stack([np.unwrap(yaw), pitch], -1)
    kept = frames / 2 / (1 + frames / 2)  # of what was before: delays a ramp by kept / (1 - kept) frames
    recursion = np.stack([np.ones(len(angles)), np.full(len(angles), -kept)])  # the angle now, less of that before
    for _ in range(2):
        wanted = np.concatenate([angles[:1], (1 - kept) * angles[1:]])
        angles = np.asarray(solve_banded((1, 0), recursion, wanted))
    return np.asarray(upright.apply(Rotation.from_euler("YX", angles).apply([0.0, 0.0, 1.0])))


def _heading(rays: Floats) -> tuple[Floats, Floats]:
    """Yaw to the right and pitch upwards (N,), rad, of unit rays (N, 3)."""
    return np.arctan2(rays[:, 0], rays[:, 2]), np.arcsin(np.clip(-rays[:, 1], -1, 1))
