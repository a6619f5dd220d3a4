"""Rotations of a camera that sees all around, from rays that match.

A match's rotation is the one that takes its rays nearest to where they were found (Wahba 1965, solved by Markley's
singular value decomposition, 1988), weighted again and again by Tukey's biweight (Holland & Welsch 1977). What the
camera carries along (the one below it, a pole, its own arms) stands still in the picture while the world turns: cells
of the picture whose points, over all matches, stand still likelier than they turn along are not believed.
Rotations are averaged over the graph of matches as those behind a lens are (see `motion.turns`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.graph import BLIND_SIGMA, PAIR_SIGMA
from keen_horizon.core.motion.matched import biweight, matched_points
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.motion.sphere.faces import FOCAL
from keen_horizon.core.motion.sphere.rows import at_middle_row, shot_spins
from keen_horizon.core.motion.turns import averaged, bridged_motion

Floats = NDArray[np.float64]

ROUNDS = 6
MOST_POINTS = 240  # of a pair: all around there are more
NOISE_RAD = 0.05 / FOCAL  # how exactly a point is followed in a face: 0.05 px
CELL_DEG = 12.0
AGREEING = 4.0  # noises, from a point to where a motion puts it
MOST_TOLD, SURELY = 4.0, 12.0  # logarithms of how much likelier one thing is: by a point at most, and to be believed
LOOKS = 2  # at what is carried: without it the turns are found better
READ_LOOKS = 2  # at how a camera turned while its rows were read
BLOCK = 128  # matches at a time, so that memory is that of their rays alone


def agreed_turns(source: Floats, target: Floats, there: NDArray[np.bool_]) -> tuple[Floats, NDArray[np.bool_], Floats]:
    """Rotations (E, 3, 3) target_from_source of matches' unit rays (E, M, 3), padded; who agrees (E, M); their
    errors (E, M), rad.
    """
    weights = there.astype(np.float64)
    for _ in range(ROUNDS):
        turns = _wahba(source, target, weights)
        errors = np.where(there, np.linalg.norm(target - source @ np.swapaxes(turns, 1, 2), axis=-1), 0.0)
        weights = biweight(errors, there, NOISE_RAD)
    return turns, weights > 0, errors


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


@dataclass(frozen=True)
class SphereMatches:
    """Matches (E,) between `frames` (E, 2), as padded tables of unit rays (E, M, 3); `there` marks real ones. Rays are
    of single precision, which is a thousandth of what points are followed to.
    """

    frames: NDArray[np.intp]
    source: NDArray[np.float32]
    target: NDArray[np.float32]
    there: NDArray[np.bool_]

    @staticmethod
    def of(measurement: Measurement, sphere: Sphere) -> SphereMatches:
        """The points of a measured range, which lie in the sphere's picture, as its rows saw them."""
        points = matched_points(measurement, MOST_POINTS)
        source, target = (np.empty((*points.there.shape, 3), np.float32) for _ in range(2))
        for rows in blocks(len(points.frames)):
            source[rows] = sphere.rays(as_points(points.source[rows]))
            target[rows] = sphere.rays(as_points(points.target[rows]))
        return SphereMatches(points.frames, source, target, points.there)

    def part(self, rows: slice) -> SphereMatches:
        """Some of the matches."""
        return SphereMatches(self.frames[rows], self.source[rows], self.target[rows], self.there[rows])

    def at_middle_rows(self, read_turns: Floats) -> SphereMatches:
        """The same as middle rows would have seen them, of a camera that turns by (N, 3) while a frame is read."""
        source, target = (np.empty_like(rays) for rays in (self.source, self.target))
        for rows in blocks(len(self.frames)):
            this, other = (read_turns[self.frames[rows, end], None] for end in (0, 1))
            source[rows] = at_middle_row(self.source[rows].astype(np.float64), this)
            target[rows] = at_middle_row(self.target[rows].astype(np.float64), other)
        return replace(self, source=source, target=target)


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
        carried = _carried(matches, turns)
        if not carried.any():
            break
        matches = replace(matches, there=matches.there & ~carried)
        turns, agree = _turns_in_blocks(matches)
    return turns, agree


def blocks(count: int) -> Iterator[slice]:
    """Rows 0 ... count - 1, so many at a time."""
    return (slice(start, min(start + BLOCK, count)) for start in range(0, count, BLOCK))


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


def _carried(matches: SphereMatches, turns: Floats) -> NDArray[np.bool_]:
    """Which points (E, M) lie where the camera carries something along: what tells for it adds up over all matches."""
    told = np.zeros(_cells(np.zeros((0, 3)))[1])
    for rows in blocks(len(turns)):
        part = matches.part(rows)
        source, target = part.source.astype(np.float64), part.target
        turned = source @ np.swapaxes(turns[rows], 1, 2)
        from_turned, from_still = (np.linalg.norm(target - place, axis=-1) / NOISE_RAD for place in (turned, source))
        tells = np.clip((from_turned**2 - from_still**2) / 2, -MOST_TOLD, MOST_TOLD)
        tells[np.minimum(from_turned, from_still) > AGREEING] = 0.0
        cells, _ = _cells(source)
        told += np.bincount(cells[part.there], tells[part.there], minlength=len(told))
    carried = np.zeros(matches.there.shape, np.bool_)
    for rows in blocks(len(turns)):
        cells, _ = _cells(matches.source[rows])
        carried[rows] = matches.there[rows] & (told > SURELY)[cells]
    return carried


def _cells(rays: NDArray[np.floating]) -> tuple[NDArray[np.intp], int]:
    """The cell of the picture that each ray (..., 3) lies in, about as large everywhere, and how many there are."""
    rows = round(180 / CELL_DEG)
    latitude = np.arcsin(np.clip(rays[..., 1], -1, 1)) / np.pi + 0.5
    row = np.minimum((latitude * rows).astype(int), rows - 1)
    columns = np.maximum(1, np.rint(2 * rows * np.cos(((np.arange(rows) + 0.5) / rows - 0.5) * np.pi))).astype(int)
    starts = np.r_[0, np.cumsum(columns)]
    longitude = np.arctan2(rays[..., 0], rays[..., 2]) / (2 * np.pi) + 0.5
    column = np.minimum((longitude * columns[row]).astype(int), columns[row] - 1)
    return np.asarray(starts[row] + column, np.intp), int(starts[-1])
