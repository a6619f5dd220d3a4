"""How long a camera that sees all around takes to read its rows, from the points that were followed.

Two rows of one frame saw the world while the camera stood differently, so points that match between frames agree with
one turn only once each is brought to its frame's middle row. That readout is looked for which leaves least, by
Gauss-Newton; each pair's own turn is eliminated, so that only what bends within the picture tells. Its doubt is told by
a jackknife of blocks of pairs (Quenouille 1956); it is not told where it hangs on how smoothly the camera is taken to
turn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.glass.shutter import SURE, UNKNOWN, Readout
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.matches import NOISE_RAD, SphereMatches, blocks
from keen_horizon.core.motion.sphere.rows import row_shares, shot_spins, spins
from keen_horizon.core.motion.sphere.turns import believed_turns, joined_turns, sphere_turns

Floats = NDArray[np.float64]

LEAST_PAIRS = 24
STEPS = 6
SETTLED = 1e-4
BLOCKS = 10
MOST = 1.1  # a readout: what is longer is no camera's
FOLLOWED = 0.06  # of NOISE_RAD: how wrongly points are followed the way they bend (six films with known turns)
APART = 0.25  # of a readout, that a coarser spin may change it by: a hand that jerks between frames changes it by more
APART_LEAST = 0.04


@dataclass(frozen=True)
class _Told:
    """What pairs (E,) tell of the readout: `slope` and `pull` of their squared errors, and how much one bends."""

    slope: Floats
    pull: Floats

    @property
    def step(self) -> float:
        return float(self.pull.sum() / max(1e-12, self.slope.sum()))

    @property
    def doubt(self) -> float:
        """Of the step, by leaving out one block of pairs at a time."""
        blocks = np.arange(len(self.slope)) * BLOCKS // len(self.slope)
        slopes, pulls = (np.bincount(blocks, values, minlength=BLOCKS) for values in (self.slope, self.pull))
        left_out = (pulls.sum() - pulls) / np.maximum(1e-12, slopes.sum() - slopes)
        return float(np.sqrt((BLOCKS - 1) / BLOCKS * ((left_out - left_out.mean()) ** 2).sum()))


def find_sphere_readout(measurement: Measurement) -> Readout:
    """The readout of a measured range of a sphere."""
    if len(measurement) < LEAST_PAIRS:
        return UNKNOWN
    sphere = sphere_of(measurement.size)
    unread = replace(measurement, readout=UNKNOWN)
    matches = SphereMatches.of(unread, sphere)
    start = sphere_turns(unread, sphere).rotations
    readout, told, bend = _solved(measurement, matches, start, spins)
    coarse, _, _ = _solved(measurement, matches, start, _coarse_spins)
    smooth = abs(coarse - readout) < max(APART_LEAST, APART * abs(readout))
    doubt = float(np.hypot(told.doubt, FOLLOWED / max(bend, 1e-9)))
    return Readout(readout, doubt, bool(smooth and doubt < SURE and abs(readout) < MOST))


def _solved(
    measurement: Measurement, matches: SphereMatches, rotations: Rotation, spins_of: Callable[[Rotation], Floats]
) -> tuple[float, _Told, float]:
    """The readout that leaves least, what told it, and how far one of a whole frame would bend pictures, in noises."""
    readout = 0.0
    for _ in range(STEPS):
        spin = shot_spins(rotations, measurement.cut, spins_of)
        brought = matches.at_middle_rows(readout * spin)
        turns, agree = believed_turns(brought)
        told, bend = _told(brought, spin, turns, agree)
        readout += told.step
        if abs(told.step) < SETTLED:
            break
        rotations = joined_turns(measurement, brought, turns, agree).rotations
    return readout, told, bend


def _told(brought: SphereMatches, spin: Floats, turns: Floats, agree: NDArray[np.bool_]) -> tuple[_Told, float]:
    """One step of Gauss-Newton from matches at their middle rows."""
    slope, pull = np.empty(len(turns)), np.empty(len(turns))
    for rows in blocks(len(turns)):
        slope[rows], pull[rows] = _slope_and_pull(brought.part(rows), spin, turns[rows], agree[rows])
    return _Told(slope, pull), float(np.sqrt(slope.sum() / max(1, int(agree.sum()))) / NOISE_RAD)


def _slope_and_pull(
    brought: SphereMatches, spin: Floats, turns: Floats, agree: NDArray[np.bool_]
) -> tuple[Floats, Floats]:
    """What matches tell each (E,), their own turns eliminated."""
    back = np.swapaxes(turns, 1, 2)
    source, target = (rays.astype(np.float64) for rays in (brought.source, brought.target))
    seen = source @ back
    error = np.where(agree[..., None], target - seen, 0.0)
    moves = [
        row_shares(rays)[..., None] * np.cross(spin[brought.frames[:, end], None], rays)
        for end, rays in enumerate((source, target))
    ]
    bends = np.where(agree[..., None], moves[1] - moves[0] @ back, 0.0)
    square = agree.sum(1)[:, None, None] * np.eye(3) - np.einsum("emi,emj,em->eij", seen, seen, agree.astype(float))
    square += 1e-9 * np.eye(3)
    of_error, of_bends = (np.cross(seen, part).sum(1) for part in (error, bends))
    taken = np.linalg.solve(square, of_bends[..., None])[..., 0]  # by the pair's own turn
    slope = (bends**2).sum((1, 2)) - (taken * of_bends).sum(1)
    pull = -((bends * error).sum((1, 2)) - (taken * of_error).sum(1))
    return slope, pull


def _coarse_spins(rotations: Rotation) -> Floats:
    """How a camera turns (N, 3), rad a frame, by the frames beside each alone."""
    if len(rotations) < 2:
        return np.zeros((len(rotations), 3))
    steps = (rotations[:-1].inv() * rotations[1:]).as_rotvec()
    return np.concatenate([steps[:1], (steps[1:] + steps[:-1]) / 2, steps[-1:]])
