"""Where every frame stood, from motions between some pairs of frames.

Chaining pairs adds up their errors; matches to key frames close the loops. A similarity's logarithm
log z = log scale + i angle adds along a chain, so the poses solve one sparse complex linear system for
z and then, z known, another for t. Wrong edges are outvoted by iterative reweighting (Holland & Welsch
1977) with Tukey's weights after a few rounds of Cauchy's.

Edge a -> b says  b_from_a(p) = m p + d.  With reference_from_frame poses (z, t) it asks for
    log z_a - log z_b = log m           and, at the centre q of the points it was seen on,
    z_b (m q + d) + t_b = z_a q + t_a.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csc_matrix
from scipy.sparse.linalg import splu

from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.geometry.similarity import Complex, Floats, Similarities

ROUNDS = 8
LEAST_WEIGHT = 1e-8  # so that no frame comes loose from all others


@dataclass(frozen=True)
class Edges:
    """E motions between frames: `source`, `target` (E,) indices, `motion` b_from_a, `centre` q (E,).

    `sigma` (E,) is the expected error in pixels.
    """

    source: NDArray[np.intp]
    target: NDArray[np.intp]
    motion: Similarities
    centre: Complex
    sigma: Floats


def solve_poses(edges: Edges, chain: Similarities, radius: float) -> Similarities:
    """Poses reference_from_frame (N,), the first the identity.

    `chain` (N,) are first guesses, near enough that angles need no unwrapping by more than half a turn;
    `radius` turns an error of angle into pixels (half the diagonal).
    """
    count = len(chain)
    guess = np.log(chain.z)
    wanted = np.log(edges.motion.z)
    offset = wanted - (guess[edges.source] - guess[edges.target])
    offset = offset.real + 1j * np.angle(np.exp(1j * offset.imag))
    logs = guess + _robust_complex(edges, offset, count, edges.sigma / radius)
    z = np.exp(logs - logs[0])
    seen = z[edges.target] * (edges.motion.z * edges.centre + edges.motion.t)
    t = _robust_complex(edges, seen - z[edges.source] * edges.centre, count, edges.sigma * np.abs(z[edges.target]))
    return Similarities(z, t - t[0])


def solve_tilts(edges: Edges, tilt: Complex, poses: Similarities) -> Complex:
    """Tilts (N,) of frames whose differences are `tilt` (E,), each seen from its edge's source frame.

    A tilt p seen from a frame is p / conj(z) seen from the reference, where tilts add along a chain to first
    order; the first frame has none.
    """
    seen = tilt / np.conj(poses.z[edges.source])
    scale = np.maximum(np.median(np.abs(seen)), 1e-9) / edges.sigma.min()
    found = _robust_complex(edges, seen, len(poses), edges.sigma * scale)
    return np.asarray((found - found[0]) * np.conj(poses.z))


def _robust_complex(edges: Edges, difference: Complex, count: int, sigma: Floats) -> Complex:
    x = robust_values(edges.source, edges.target, np.stack([difference.real, difference.imag], -1), count, sigma)
    return np.asarray(x[:, 0] + 1j * x[:, 1])


def robust_values(
    source: NDArray[np.intp], target: NDArray[np.intp], difference: Floats, count: int, sigma: Floats
) -> Floats:
    """Values x (N, k) with x_source - x_target = difference (E, k), outliers outvoted; x_0 is near 0.

    `sigma` (E,) is the expected error of a difference's length.
    """
    weights = 1 / sigma**2
    x = np.zeros((count, difference.shape[1]))
    for turn in range(ROUNDS):
        x = _solve(source, target, difference, count, weights)
        errors = np.linalg.norm(x[source] - x[target] - difference, axis=1) / sigma
        scale = max(1.0, 1.5 * float(np.median(errors)))
        cauchy = 1 / (1 + (errors / (TUKEY_REACH * scale)) ** 2)
        robust = cauchy if turn < 3 else np.maximum(tukey(errors, scale), LEAST_WEIGHT)
        weights = robust / sigma**2
    return x


def _solve(a: NDArray[np.intp], b: NDArray[np.intp], difference: Floats, count: int, weights: Floats) -> Floats:
    rows, columns = np.r_[a, b, a, b, 0], np.r_[a, b, b, a, 0]
    values = np.r_[weights, weights, -weights, -weights, weights.max()]  # the last holds the first frame near 0
    anchored = csc_matrix((values, (rows, columns)), (count, count))
    right = np.zeros((count, difference.shape[1]))
    np.add.at(right, a, weights[:, None] * difference)
    np.add.at(right, b, -weights[:, None] * difference)
    return np.asarray(splu(anchored).solve(right))
