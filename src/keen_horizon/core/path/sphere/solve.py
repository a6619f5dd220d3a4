"""Steadier rotations for a camera that sees all around.

Hold keeps one direction, Glide turns as smoothly as the response time asks, Level puts the vertical upright and lets
the heading glide. Rotations are smoothed where they are, on SO(3): all frames are turned a little, about the
reference's axes, so that what is left of the third differences of their path and of their way from the measured
one is least, and again from there (Gauss-Newton; differences of small turns add up as vectors do).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_solve_banded, cholesky_banded
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.finding.vertical import Vertical, find_vertical
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.program import difference_bands, smooth_product
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.sphere.outlook import keyed_outlooks, outlooks_of
from keen_horizon.core.path.sphere.sphere_path import SpherePath, joined_spheres
from keen_horizon.core.path.wish import Pull, pull_of
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

ROUNDS, SETTLED = 12, 1e-7  # rad
USUAL_VIEW = Size(1920, 1080)
UP = np.array([0.0, -1.0, 0.0])


def solve_sphere(measurement: Measurement, treatment: Treatment) -> SpherePath:
    """The path of a measured range. Raises TreatmentError where the intent cannot be had."""
    path = joined_spheres([_of_shot(shot, treatment) for shot in turned_shots(measurement)])
    view = treatment.view
    if view is None:
        return path
    frames = np.arange(path.first, path.last + 1)
    outlooks = outlooks_of(view, USUAL_VIEW, frames)
    if outlooks is not None:
        return replace(path, size=outlooks.size, outlooks=outlooks)
    ahead = Rotation.from_euler("YXZ", keyed_outlooks(view.keys, frames)[:, :3])
    size = path.size if view.size is None else Size(view.size.width, view.size.height)
    return replace(path, size=size, steadied=path.steadied * ahead)


@dataclass(frozen=True)
class TurnedShot:
    """A shot with where its camera stood, rotations (N,) reference_from_camera, its own first frame the reference."""

    shot: Measurement
    measured: Rotation

    @cached_property
    def vertical(self) -> Vertical:
        """Where up is, by what the shot shows."""
        return find_vertical(self.shot.uprights, self.measured)


@kept_lately
def turned_shots(measurement: Measurement) -> list[TurnedShot]:
    """The shots of a sphere's measurement, whatever is asked of them later."""
    rotations = sphere_turns(measurement, sphere_of(measurement.size)).rotations
    found = []
    for shot in shots(measurement):
        start = shot.first - measurement.first
        found.append(TurnedShot(shot, rotations[start].inv() * rotations[start : start + len(shot)]))
    return found


def _of_shot(turned: TurnedShot, treatment: Treatment) -> SpherePath:
    shot, measured, motion = turned.shot, turned.measured, treatment.motion
    sphere = sphere_of(shot.size)
    if motion.intent is None:
        steadied = measured
    else:
        pull = pull_of(motion, shot.first, len(shot), shot.rate)
        wished = _wished(turned, treatment, pull)
        left = (measured.inv() * wished).as_rotvec()
        steadied = measured * Rotation.from_rotvec(left * pull.strength[:, None])
    height = shot.size.height // 2 * 2
    size = Size(2 * height, height)  # also of what half a sphere saw
    return SpherePath(sphere=sphere, size=size, first=shot.first, measured=measured, steadied=steadied)


def _wished(turned: TurnedShot, treatment: Treatment, pull: Pull) -> Rotation:
    """Where an intent would have the camera (N,), were all of it made."""
    intent, measured = treatment.motion.intent, turned.measured
    if intent == "pin":
        raise TreatmentError("Pin: a point of a sphere cannot be pinned yet. Choose hold, glide or level.")
    if intent == "hold":
        return Rotation.concatenate([measured.mean()] * len(measured))
    if intent == "glide":
        return smoothed(measured, pull)
    return levelled(measured, turned.vertical, pull)


def smoothed(measured: Rotation, pull: Pull) -> Rotation:
    """The smooth path (N,) near a measured one."""
    if len(measured) < 2:
        return measured
    bands = difference_bands(pull.first, pull.third)
    factor = cholesky_banded(bands, lower=True)
    roughness = bands.copy()
    roughness[0] -= 1.0
    steadied = measured
    for _ in range(ROUNDS):
        apart = (steadied * measured.inv()).as_rotvec()
        steps = (steadied[1:] * steadied[:-1].inv()).as_rotvec()
        travelled = np.concatenate([np.zeros((1, 3)), np.cumsum(steps, axis=0)])
        pull_back = apart + smooth_product(roughness, travelled)
        change = -cho_solve_banded((factor, True), pull_back)
        steadied = Rotation.from_rotvec(change) * steadied
        if np.abs(change).max() < SETTLED:
            break
    return steadied


def levelled(measured: Rotation, vertical: Vertical, pull: Pull) -> Rotation:
    """The camera upright, its heading as smooth as a path's. Raises TreatmentError where nothing tells the vertical."""
    if not vertical.enough:
        raise TreatmentError(
            "Level: neither a horizon nor uprights were found all around, so nothing tells where up is. Choose hold."
        )
    turned, _ = Rotation.align_vectors(UP[None], vertical.up[None])  # level_from_reference
    upright = turned * measured
    ahead = upright.apply([0.0, 0.0, 1.0])
    heading = np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))
    bands = difference_bands(pull.first, pull.third)
    smooth = cho_solve_banded((cholesky_banded(bands, lower=True), True), heading)
    return turned.inv() * Rotation.from_euler("Y", smooth[:, None])
