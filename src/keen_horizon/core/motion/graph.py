"""Poses of all frames from what was found between some of them: motions, with perspective and without."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.motion.posegraph import Edges, solve_poses, solve_tilts

PAIR_SIGMA, BLIND_SIGMA = 0.1, 30.0


@dataclass(frozen=True)
class Posed:
    """Poses (N,) reference_from_frame; the same with perspective, and that perspective."""

    poses: Similarities
    tilted_poses: Similarities
    tilts: Complex


@dataclass(frozen=True)
class Graph:
    """E matches from frame `source` to frame `target`: first of every frame to the next, then the others.

    `motion` and `tilted` (E,) target_from_source without and with the perspective `tilt`; `centre` (E,) of the points.
    """

    source: NDArray[np.intp]
    target: NDArray[np.intp]
    motion: Similarities
    tilted: Similarities
    tilt: Complex
    centre: Complex

    def posed(self, count: int, blind: NDArray[np.bool_], radius: float, sigma: float = PAIR_SIGMA) -> Posed:
        """Poses of `count` frames; `blind` (count - 1,) pairs are bridged. `sigma` px is what a match is good for."""
        if count < 2:
            alone = Similarities.identity(count)
            return Posed(alone, alone, np.zeros(count, np.complex128))
        pairs = count - 1
        spread = np.full(len(self.source), sigma)
        spread[:pairs][blind] = BLIND_SIGMA / PAIR_SIGMA * sigma

        def solved(motion: Similarities) -> Similarities:
            known = bridged(motion[:pairs], blind)
            whole = Similarities(np.r_[known.z, motion.z[pairs:]], np.r_[known.t, motion.t[pairs:]])
            return solve_poses(
                Edges(self.source, self.target, whole, self.centre, spread), Similarities.chain(known), radius
            )

        poses = solved(self.motion)
        edges = Edges(self.source, self.target, self.motion, self.centre, spread)
        return Posed(poses, solved(self.tilted), solve_tilts(edges, self.tilt, poses))


def bridged(pairs: Similarities, blind: NDArray[np.bool_]) -> Similarities:
    """Blind pairs take the motion interpolated between their neighbours."""
    if not blind.any() or blind.all():
        return pairs
    index = np.arange(len(pairs))
    known = ~blind

    def fill(values: Complex) -> Complex:
        real = np.interp(index, index[known], values.real[known])
        imaginary = np.interp(index, index[known], values.imag[known])
        return np.asarray(real + 1j * imaginary)

    return Similarities(fill(pairs.z), fill(pairs.t))
