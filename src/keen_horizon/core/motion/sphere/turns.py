"""Rotations of a camera that sees all around, from rays that match.

A match's rotation is the one that takes its rays nearest to where they were found (Wahba 1965, solved by Markley's
singular value decomposition, 1988), weighted again and again by Tukey's biweight (Holland & Welsch 1977). Where few
agree, for something large goes its own way, the turn is looked for on which most do. What the camera carries along is
not believed (see `carried`).
Rotations are averaged over the graph of matches as those behind a lens are (see `motion.turns`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.graph import BLIND_SIGMA, PAIR_SIGMA
from keen_horizon.core.motion.matched import biweight
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.motion.sphere.carried import carried_points
from keen_horizon.core.motion.sphere.faces import FOCAL
from keen_horizon.core.motion.sphere.matches import NOISE_RAD, SphereMatches, blocks
from keen_horizon.core.motion.sphere.rows import shot_spins
from keen_horizon.core.motion.turns import averaged, bridged_motion

Floats = NDArray[np.float64]

ROUNDS = 6
CLOSE_RAD = 4 * NOISE_RAD  # from where a turn puts a ray: it agrees
MOST_AGREE, CLEARLY_MORE = 0.7, 2.0  # of a match's rays: fewer, and another turn is looked for, which so many more must
# agree with: where rows are read one after another some turn always has up to 1.5 times as many
TRIALS, SEED = 64, 11  # where three in ten rays agree, two of those are tried but for once in 400 times
LOOKS = 2  # at what is carried: without it the turns are found better
READ_LOOKS = 2  # at how a camera turned while its rows were read


def agreed_turns(source: Floats, target: Floats, there: NDArray[np.bool_]) -> tuple[Floats, NDArray[np.bool_], Floats]:
    """Rotations (E, 3, 3) target_from_source of matches' unit rays (E, M, 3), padded; who agrees (E, M); their
    errors (E, M), rad.
    """
    weights = there.astype(np.float64)
    for _ in range(ROUNDS):
        turns = _wahba(source, target, weights)
        errors = _errors(source, target, turns, there)
        weights = biweight(errors, there, NOISE_RAD)
    agree = weights > 0
    few = np.flatnonzero((there.sum(1) >= MINIMUM_INLIERS) & (_closely(errors, there) < MOST_AGREE * there.sum(1)))
    for row in few:
        turn = by_consensus(source[row], target[row], there[row])
        off = _errors(source[row, None], target[row, None], turn[None], there[row, None])
        if _closely(off, there[row, None])[0] > CLEARLY_MORE * _closely(errors[row, None], there[row, None])[0]:
            near = there[row, None] & (off < CLOSE_RAD)
            turns[row], errors[row], agree[row] = turn, off[0], biweight(off, near, NOISE_RAD)[0] > 0
    return turns, agree, errors


def by_consensus(source: Floats, target: Floats, there: NDArray[np.bool_]) -> Floats:
    """The rotation (3, 3) on which most of the rays (M, 3) that are there agree, however the others go: the best of
    those that two of them tell (Fischler & Bolles 1981), refined by all that agree with it.
    """
    seen = np.flatnonzero(there)
    one, other = seen[np.random.default_rng(SEED).integers(len(seen), size=(2, TRIALS))]
    tried = np.stack([_axes(rays[one], rays[other]) for rays in (target, source)])
    turns = tried[0] @ np.swapaxes(tried[1], 1, 2)
    products = (target[seen, :, None] * source[seen, None, :]).reshape(-1, 9)
    agreeing = (turns.reshape(-1, 9) @ products.T > np.cos(CLOSE_RAD)).sum(1)
    best = turns[int(agreeing.argmax()), None]
    for _ in range(ROUNDS):
        errors = _errors(source[None], target[None], best, there[None])
        near = there[None] & (errors < CLOSE_RAD)
        best = _wahba(source[None], target[None], biweight(errors, near, NOISE_RAD))
    return np.asarray(best[0])


def _axes(one: Floats, other: Floats) -> Floats:
    """Right-handed axes (T, 3, 3), as columns, that two rays (T, 3) each span."""
    across = np.cross(one, other)
    size = np.linalg.norm(across, axis=-1, keepdims=True)
    across = across / np.maximum(size, 1e-12)
    return np.stack([one, across, np.cross(one, across)], -1)


def _errors(source: Floats, target: Floats, turns: Floats, there: NDArray[np.bool_]) -> Floats:
    """How far (E, M), rad, rays are from where turns put them; 0 where none is."""
    return np.where(there, np.linalg.norm(target - source @ np.swapaxes(turns, 1, 2), axis=-1), 0.0)


def _closely(errors: Floats, there: NDArray[np.bool_]) -> NDArray[np.intp]:
    """How many of each match's rays agree closely (E,)."""
    return np.asarray((there & (errors < CLOSE_RAD)).sum(1))


def _wahba(source: Floats, target: Floats, weights: Floats) -> Floats:
    left, _, right = np.linalg.svd(np.swapaxes(target * weights[..., None], 1, 2) @ source)
    left[:, :, 2] *= np.linalg.det(left @ right)[:, None]
    return np.asarray(left @ right)


@dataclass(frozen=True)
class SphereTurns:
    """A camera over N frames: `rotations` (N,) reference_from_camera, the first frame's own being the reference;
    `pairs` (N-1,) next_from_this.
    """

    rotations: Rotation
    pairs: Rotation


@kept_lately
def sphere_turns(measurement: Measurement, sphere: Sphere) -> SphereTurns:
    """The turns of a camera over a measured range, at the middle rows of its frames."""
    matches = SphereMatches.of(measurement, sphere)
    found = turns_between(measurement, matches)
    if not measurement.readout.seen:
        return found
    for _ in range(READ_LOOKS):
        read_turns = measurement.readout.frames * shot_spins(found.rotations, measurement.cut)
        found = turns_between(measurement, matches.at_middle_rows(read_turns))
    return found


def turns_between(measurement: Measurement, matches: SphereMatches) -> SphereTurns:
    """The turns that a measured range's matches tell."""
    if len(measurement) < 2:
        return SphereTurns(Rotation.identity(len(measurement)), Rotation.identity(0))
    return joined_turns(measurement, matches, *believed_turns(matches))


def believed_turns(matches: SphereMatches) -> tuple[Floats, NDArray[np.bool_]]:
    """The turn (E, 3, 3) of every match without what the camera carries along, and whose points agree (E, M)."""
    turns, agree = _turns_in_blocks(matches)
    for _ in range(LOOKS):
        carried = carried_points(matches, turns)
        if not carried.any():
            break
        matches = replace(matches, there=matches.there & ~carried)
        turns, agree = _turns_in_blocks(matches)
    return turns, agree


def _turns_in_blocks(matches: SphereMatches) -> tuple[Floats, NDArray[np.bool_]]:
    turns, agree = np.empty((len(matches.frames), 3, 3)), np.empty(matches.there.shape, np.bool_)
    for rows in blocks(len(matches.frames)):
        part = matches.part(rows)
        source, target = part.source.astype(np.float64), part.target.astype(np.float64)
        turns[rows], agree[rows], _ = agreed_turns(source, target, part.there)
    return turns, agree


def joined_turns(
    measurement: Measurement, matches: SphereMatches, turns: Floats, agree: NDArray[np.bool_]
) -> SphereTurns:
    """One path through the turns (E, 3, 3) of matches, of which so many points agree (E, M)."""
    count = len(measurement)
    blind = measurement.blind | measurement.cut | (agree.sum(1)[: count - 1] < MINIMUM_INLIERS)
    steps = Rotation.from_matrix(turns).as_rotvec()
    steps[: count - 1] = bridged_motion(steps[: count - 1], blind)
    spread = np.full(len(steps), PAIR_SIGMA)
    spread[: count - 1][blind] = BLIND_SIGMA
    motion = np.column_stack([steps, np.zeros(len(steps))])
    rotations = averaged(matches.frames, motion, spread / FOCAL, count).rotations
    return SphereTurns(rotations, Rotation.from_rotvec(steps[: count - 1]))
