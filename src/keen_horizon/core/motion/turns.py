"""How the camera turned, from points followed through a lens whose angles are known.

A point of the source is a ray in front of the camera; a camera that turns moves all rays by one rotation, however
wide the lens. Every match's rotation, and by how much the picture grew, is fitted to its rays with Tukey's biweight
(Holland & Welsch 1977), for all matches at once. Rotations are then averaged over the graph of matches in the
tangent space, outliers outvoted (Chatterjee & Govindu 2013). What a camera that moves does to things far away looks
the same as a turn, and is taken for one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.similarity import Floats, as_points
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.motion.graph import BLIND_SIGMA, PAIR_SIGMA
from keen_horizon.core.motion.matched import NOISE_PX, MatchedPoints, analysed_unit, biweight, matched_points
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.posegraph import robust_values
from keen_horizon.core.motion.robust import MINIMUM_INLIERS

ROUNDS = 5
AVERAGING_ROUNDS = 3
GROWTH_SPREAD = 0.05
AT_A_TIME = 256  # matches: their tables stay in a processor's cache
FURTHEST_DEGREES = 87.0  # from the lens's axis: where straightening ends


@dataclass(frozen=True)
class CameraTurns:
    """Rotations (N,) reference_from_camera, x to the right, y down, z ahead; `growth` (N,) is the logarithm of how
    large the reference shows what the frame shows.
    """

    rotations: Rotation
    growth: Floats

    def part(self, frames: slice) -> CameraTurns:
        """The turns of some frames."""
        return CameraTurns(self.rotations[frames], self.growth[frames])


@kept_lately
def camera_turns(measurement: Measurement, stage: OpticsStage) -> CameraTurns:
    """The camera's turns over a measured range, seen through a lens with known angles."""
    count = len(measurement)
    if count < 2:
        return CameraTurns(Rotation.identity(count), np.zeros(count))
    points = matched_points(measurement)
    unit = analysed_unit(measurement.size)
    found = [
        match_turns(stage, points.part(slice(start, start + AT_A_TIME)), measurement.first, NOISE_PX * unit)
        for start in range(0, len(points.frames), AT_A_TIME)
    ]
    agreeing = np.concatenate([part.agreeing for part in found])
    blind = measurement.blind | (agreeing[: count - 1] < MINIMUM_INLIERS)
    motion = np.concatenate([np.column_stack([part.turns.as_rotvec(), part.growth]) for part in found])
    motion[: count - 1] = bridged_motion(motion[: count - 1], blind)
    spread = np.full(len(motion), PAIR_SIGMA * unit * stage.at(measurement.first).size_of_px)
    spread[: count - 1][blind] *= BLIND_SIGMA / PAIR_SIGMA
    return averaged(points.frames, motion, spread, count)


def _rays(stage: OpticsStage, points: MatchedPoints, end: int, first: int, aside: float = 0.0) -> Floats:
    """Unit rays (E, M, 3) of the points at one end of their matches, or of what is so many px beside them."""
    places = as_points((points.source, points.target)[end][points.there]) + (aside, 0.0)
    return points.table(stage.each(points.numbers(end) + first, places, LensStage.rays))


@dataclass(frozen=True)
class MatchTurns:
    """Of matches: rotations (E,) target_from_source, the logarithm of growth (E,), how many points agree (E,), and what
    is left of every point, px (E, M).
    """

    turns: Rotation
    growth: Floats
    agreeing: NDArray[np.intp]
    errors: Floats


def match_turns(stage: OpticsStage, points: MatchedPoints, first: int, noise: float) -> MatchTurns:
    """The turns of matches seen through a lens; `first` is the clip's number of the range's first frame."""
    source, target = _rays(stage, points, 0, first), _rays(stage, points, 1, first)
    size_of_px = np.linalg.norm(_rays(stage, points, 0, first, aside=1.0) - source, axis=-1)
    seen = points.there & (np.minimum(source[..., 2], target[..., 2]) > np.cos(np.radians(FURTHEST_DEGREES)))
    angle = np.where(seen, np.maximum(size_of_px, 1e-9), 1.0)
    typical = stage.at(first).size_of_px
    trust = np.where(seen, (typical / angle) ** 2, 0.0)
    weights, growth = trust, np.zeros(len(source))
    errors = np.zeros(trust.shape)
    turns = Rotation.identity(len(source))
    rays, wanted = (np.ascontiguousarray(np.swapaxes(seen_at, 1, 2)) for seen_at in (source, target))  # (E, 3, M)
    for _ in range(ROUNDS):
        moved = turns.as_matrix() @ rays
        outward = _outward(moved)
        left = wanted - moved - growth[:, None, None] * outward
        change = _step(moved, outward, left, weights / typical**2, growth)
        turns = Rotation.from_rotvec(change[:, :3]) * turns
        growth = growth + change[:, 3]
        left -= _crossing(change[:, :3]) @ moved + change[:, 3:, None] * outward
        errors = np.where(seen, np.linalg.norm(left, axis=1) / angle, 0.0)
        weights = trust * biweight(errors, seen, noise)
    return MatchTurns(turns, growth, (weights > 0).sum(1), errors)


def _outward(rays: Floats) -> Floats:
    """How rays (E, 3, M) move, to first order, when a flat picture grows."""
    x, y, z = np.moveaxis(rays, 1, 0)
    aside = x**2 + y**2
    return np.stack([x - x * aside, y - y * aside, -z * aside], 1)


def _step(moved: Floats, outward: Floats, left: Floats, weights: Floats, growth: Floats) -> Floats:
    """Rotation vectors and growth (E, 4) that explain what is `left` (E, 3, M) best.

    A ray m turned by r moves by r x m, so all that is asked for hangs on sums of m m', m o' and m l'.
    """
    both = np.concatenate([moved, outward], 1)
    sums = (both * weights[:, None]) @ np.swapaxes(np.concatenate([both, left], 1), 1, 2)
    spread, aside, pulled = np.split(sums[:, :3], 3, axis=2)
    normal, wanted = np.zeros((len(moved), 4, 4)), np.zeros((len(moved), 4))
    normal[:, :3, :3] = np.trace(spread, axis1=1, axis2=2)[:, None, None] * np.eye(3) - spread
    normal[:, :3, 3] = normal[:, 3, :3] = _turning(aside)
    normal[:, 3, 3] = np.trace(sums[:, 3:, 3:6], axis1=1, axis2=2) + GROWTH_SPREAD**-2
    wanted[:, :3] = _turning(pulled)
    wanted[:, 3] = np.trace(sums[:, 3:, 6:], axis1=1, axis2=2) - growth * GROWTH_SPREAD**-2
    normal += (1e-6 + 1e-9 * np.trace(normal, axis1=1, axis2=2))[:, None, None] * np.eye(4)
    return np.asarray(np.linalg.solve(normal, wanted[..., None])[..., 0])


def _turning(products: Floats) -> Floats:
    """Sums of a x b (E, 3) from those of a b' (E, 3, 3)."""
    apart = products - np.swapaxes(products, 1, 2)
    return np.stack([apart[:, 1, 2], apart[:, 2, 0], apart[:, 0, 1]], -1)


def _crossing(vectors: Floats) -> Floats:
    """Matrices (E, 3, 3) that turn b into a x b, for vectors a (E, 3)."""
    x, y, z = vectors.T
    none = np.zeros(len(vectors))
    return np.stack([none, -z, y, z, none, -x, -y, x, none], -1).reshape(-1, 3, 3)


def bridged_motion(motion: Floats, blind: NDArray[np.bool_]) -> Floats:
    """Motion (P, k) of blind pairs interpolated between their neighbours."""
    if not blind.any() or blind.all():
        return motion
    index = np.arange(len(motion))
    return np.stack([np.interp(index, index[~blind], column[~blind]) for column in motion.T], -1)


def averaged(frames: NDArray[np.intp], motion: Floats, spread: Floats, count: int) -> CameraTurns:
    """The turns that matches between `frames` (E, 2), first of each frame and the next, agree on."""
    source, target = frames.T
    steps = Rotation.from_rotvec(motion[:, :3])
    chain = [np.eye(3)]
    for back in steps[: count - 1].inv().as_matrix():
        chain.append(chain[-1] @ back)
    rotations = Rotation.from_matrix(np.stack(chain))
    growth = np.concatenate([[0.0], -np.cumsum(motion[: count - 1, 3])])
    for _ in range(AVERAGING_ROUNDS):
        apart = (rotations[target] * steps * rotations[source].inv()).as_rotvec()
        grown = motion[:, 3] - (growth[source] - growth[target])
        found = robust_values(source, target, np.column_stack([apart, grown]), count, spread)
        rotations = Rotation.from_rotvec(found[:, :3]) * rotations
        growth = growth + found[:, 3]
    return CameraTurns(rotations[0].inv() * rotations, growth - growth[0])
