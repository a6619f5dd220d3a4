"""Steadier rotations for a camera that sees all around.

Hold keeps one direction, Glide turns as smoothly as the response time asks, Level puts the vertical upright and lets
the heading glide, Pin keeps a subject where it was chosen. Rotations are smoothed where they are, on SO(3): all
frames are turned a little, about the reference's axes, so that what is left of the third differences of their path
and of their way from the measured one is least, and again from there (Gauss-Newton; differences of small turns add up
as vectors do).
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
from keen_horizon.core.finding.vertical import Vertical, drawn_vertical, find_vertical
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.motion.sphere.pin import scene_rays
from keen_horizon.core.motion.sphere.rows import spins
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.program import difference_bands, smooth_product
from keen_horizon.core.path.seen_through import readout_of
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.sphere.outlook import keyed_outlooks, outlooks_of
from keen_horizon.core.path.sphere.pinned import lagging, pinned, pinned_by_two
from keen_horizon.core.path.sphere.sphere_path import SpherePath, joined_spheres
from keen_horizon.core.path.wish import Pull, pull_of
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.motion import Level, Motion

Floats = NDArray[np.float64]

ROUNDS, SETTLED = 12, 1e-7  # rad
USUAL_VIEW = Size(1920, 1080)
UP = np.array([0.0, -1.0, 0.0])


def solve_sphere(measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...] = ()) -> SpherePath:
    """The path of a measured range. Raises TreatmentError where the intent cannot be had."""
    believed = believed_as(measurement, treatment.motion.belief)
    path = joined_spheres([_of_shot(shot, treatment, pins) for shot in turned_shots(believed)])
    view = treatment.view
    if view is None:
        return path
    frames = np.arange(path.first, path.last + 1)
    outlooks = outlooks_of(view, USUAL_VIEW, frames, path.sphere)
    if outlooks is not None:
        return replace(path, size=outlooks.size, outlooks=outlooks)
    ahead = Rotation.from_euler("YXZ", keyed_outlooks(view.keys, frames)[:, :3])
    size = path.size if view.size is None else Size(view.size.width, view.size.height)
    return replace(path, size=size, ahead=ahead)


@dataclass(frozen=True)
class TurnedShot:
    """A shot with where its camera stood, rotations (N,) reference_from_camera, its own first frame the reference."""

    shot: Measurement
    measured: Rotation

    @cached_property
    def vertical(self) -> Vertical:
        """Where up is, by what the shot shows."""
        return find_vertical(self.shot.uprights, self.measured)

    @cached_property
    def spins(self) -> Floats:
        """How the camera turns at each frame (N, 3), rad a frame about its own axes."""
        return spins(self.measured)

    def upright_by(self, level: Level) -> Vertical:
        """Where up is, by the lines that an editor drew in this shot, or by what it shows where there are none."""
        sphere = sphere_of(self.shot.size)
        inside = [line for line in level.lines if self.shot.first <= line.frame < self.shot.first + len(self.shot)]
        if not inside:
            return self.vertical
        ends = np.array([[[line.x1, line.y1], [line.x2, line.y2]] for line in inside], np.float64)
        there = self.measured[[line.frame - self.shot.first for line in inside]]
        rays = np.stack([there.apply(sphere.rays(ends[:, end])) for end in (0, 1)], 1)
        usual = self.vertical.up if self.vertical.enough else self.measured.apply(UP).mean(0)
        return drawn_vertical(rays, usual)


@kept_lately
def turned_shots(measurement: Measurement) -> list[TurnedShot]:
    """The shots of a sphere's measurement, whatever is asked of them later."""
    rotations = sphere_turns(measurement, sphere_of(measurement.size)).rotations
    found = []
    for shot in shots(measurement):
        start = shot.first - measurement.first
        found.append(TurnedShot(shot, rotations[start].inv() * rotations[start : start + len(shot)]))
    return found


def seen_up(measurement: Measurement, treatment: Treatment) -> Floats | None:
    """Where up is in the pictures of a measured range, unit rays (N, 3); None where a shot does not tell."""
    found = []
    for turned in turned_shots(believed_as(measurement, treatment.motion.belief)):
        vertical = turned.upright_by(treatment.motion.level)
        if not vertical.enough:
            return None
        found.append(turned.measured.inv().apply(vertical.up))
    return np.concatenate(found)


def _of_shot(turned: TurnedShot, treatment: Treatment, pins: tuple[PinTrack, ...]) -> SpherePath:
    shot, measured, motion = turned.shot, turned.measured, treatment.motion
    sphere = sphere_of(shot.size)
    if motion.intent is None:
        steadied = measured
    else:
        pull = pull_of(motion, shot.first, len(shot), shot.rate)
        wished = _wished(turned, motion, pull, pins)
        left = (measured.inv() * wished).as_rotvec()
        steadied = measured * Rotation.from_rotvec(left * pull.strength[:, None])
    height = shot.size.height // 2 * 2
    size = Size(2 * height, height)  # also of what half a sphere saw
    return SpherePath(
        sphere=sphere, size=size, first=shot.first, measured=measured, steadied=steadied,
        read_turns=readout_of(motion, shot) * turned.spins,
    )  # fmt: skip


def _wished(turned: TurnedShot, motion: Motion, pull: Pull, pins: tuple[PinTrack, ...]) -> Rotation:
    """Where an intent would have the camera (N,), were all of it made."""
    measured = turned.measured
    if motion.intent == "pin":
        return _pinned(turned, motion, pins)
    if motion.intent == "hold":
        return Rotation.concatenate([measured.mean()] * len(measured))
    if motion.intent == "glide":
        return smoothed(measured, pull)
    return levelled(measured, turned.upright_by(motion.level), pull)


def _pinned(turned: TurnedShot, motion: Motion, pins: tuple[PinTrack, ...]) -> Rotation:
    """The camera that keeps the followed points where they were chosen; without any told vertical, upright as it
    stood on average.
    """
    shot, measured = turned.shot, turned.measured
    if not motion.pin.points:
        return measured
    if not pins:
        raise TreatmentError("Pin: no point has been followed yet.")
    sphere, vertical = sphere_of(shot.size), turned.upright_by(motion.level)
    upright = _upright(vertical) if vertical.enough else measured.mean()
    read_turns = readout_of(motion, shot) * turned.spins
    rays = [scene_rays(pin, sphere, shot.first, measured, read_turns) for pin in pins]
    set_at = min(mark.frame for point in motion.pin.points for mark in point.marks)
    at = int(np.clip(set_at - shot.first, 0, len(shot) - 1))
    chosen = [measured[at].inv().apply(ray[at]) for ray in rays]
    late = [lagging(ray, upright, motion.pin.lag_s * shot.rate) for ray in rays]
    if len(rays) == 1:
        return pinned(late[0], chosen[0], upright)
    return pinned_by_two((late[0], late[1]), (chosen[0], chosen[1]))


def _upright(vertical: Vertical) -> Rotation:
    """reference_from_upright of a told vertical, turned no more than that needs."""
    turned, _ = Rotation.align_vectors(vertical.up[None], UP[None])
    return turned


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
            "Level: neither a horizon nor uprights were found all around, so nothing tells where up is. "
            "Draw a line along the horizon, or along two uprights."
        )
    upright = _upright(vertical)
    ahead = (upright.inv() * measured).apply([0.0, 0.0, 1.0])
    heading = np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))
    bands = difference_bands(pull.first, pull.third)
    smooth = cho_solve_banded((cholesky_banded(bands, lower=True), True), heading)
    return upright * Rotation.from_euler("Y", smooth[:, None])
