"""One similarity from many tracks, some of which follow something that moves by itself.

Random sample consensus (Fischler & Bolles 1981) over pairs of points, scored by how many cells of the
picture agree rather than by how many points: a richly textured passer-by covers few cells, the
background many. Then the inliers are refitted with Tukey's biweight.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.geometry.similarity import as_complex, fit_similarity
from keen_horizon.core.motion.tracking import Tracks, grid_cells

THRESHOLD_PX = 1.0
TRIALS = 96
MINIMUM_INLIERS = 12
MOST_ROUNDS, SETTLED_PX = 6, 1e-3  # of refitting, and the largest change of an error that ends it


@dataclass(frozen=True)
class Fit:
    """target = z source + t in analysis pixels; `inliers` (N,) marks the tracks believed."""

    z: complex
    t: complex
    inliers: NDArray[np.bool_]

    @property
    def count(self) -> int:
        """How many tracks agree."""
        return int(self.inliers.sum())


def fit_tracks(
    tracks: Tracks,
    shape: tuple[int, ...],
    seed: int,
    hint: tuple[complex, complex] | None = None,
) -> Fit | None:
    """The motion that most of the picture follows, or None where too little agrees.

    `hint` is a motion that is tried besides the random ones: what went before, or what key frames say.
    """
    if len(tracks) < MINIMUM_INLIERS:
        return None
    source, target = as_complex(tracks.source), as_complex(tracks.target)
    cells = grid_cells(tracks.source, shape)
    z, t = _candidates(source, target, np.random.default_rng(seed), hint)
    close = np.abs(z[:, None] * source + t[:, None] - target) < THRESHOLD_PX
    order = np.argsort(cells, kind="stable")
    starts = np.r_[0, np.flatnonzero(np.diff(cells[order])) + 1]
    covered = np.logical_or.reduceat(close[:, order], starts, axis=1).sum(1)
    best = int(np.argmax(covered + close.sum(1) / (4.0 * len(source))))
    return _refit(source, target, close[best])


def _candidates(
    source: NDArray[np.complex128],
    target: NDArray[np.complex128],
    random: np.random.Generator,
    hint: tuple[complex, complex] | None,
) -> tuple[NDArray[np.complex128], NDArray[np.complex128]]:
    first = random.integers(0, len(source), TRIALS)
    second = random.integers(0, len(source), TRIALS)
    apart = np.abs(source[first] - source[second]) > 20
    first, second = first[apart], second[apart]
    z = (target[first] - target[second]) / (source[first] - source[second])
    plausible = np.abs(np.abs(z) - 1) < 0.3
    z, t = z[plausible], (target[first] - z * source[first])[plausible]
    shift = complex(np.median(target.real - source.real) + 1j * np.median(target.imag - source.imag))
    extra = [(1 + 0j, shift)] + ([hint] if hint is not None else [])
    return np.r_[z, [e[0] for e in extra]], np.r_[t, [e[1] for e in extra]]


def _refit(source: NDArray[np.complex128], target: NDArray[np.complex128], inliers: NDArray[np.bool_]) -> Fit | None:
    weights = inliers.astype(np.float64)
    spread = THRESHOLD_PX / 3
    z, t = 1 + 0j, 0j
    errors = np.abs(source - target)
    for _ in range(MOST_ROUNDS):
        if (weights > 0).sum() < MINIMUM_INLIERS:
            return None
        before = errors
        z, t = fit_similarity(source, target, weights)
        errors = np.abs(z * source + t - target)
        near = errors < THRESHOLD_PX
        if near.sum() < MINIMUM_INLIERS:
            return None
        spread = max(0.05, 1.2 * float(np.median(errors[near])))
        weights = tukey(errors, spread)
        if np.abs(errors - before).max() < SETTLED_PX:
            break
    believed = errors < min(THRESHOLD_PX, TUKEY_REACH * spread)
    if believed.sum() < MINIMUM_INLIERS:
        return None
    return Fit(z, t, believed)
