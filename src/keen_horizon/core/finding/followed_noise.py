"""How exactly points were followed, from what a polynomial map of each pair of frames leaves of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.geometry.similarity import Complex, Floats
from keen_horizon.core.motion.matched import row_medians

RAYLEIGH = 1.1774  # the median of a length whose parts have deviation 1
ROUNDS = 4


def followed_noise(terms: Floats, target: Complex, there: NDArray[np.bool_], trust: Floats, least: float) -> Floats:
    """The deviation (E,) of one coordinate of `target` (E, M), at `least`, from the best sum of `terms` (E, M, K).

    A model of the motion is not asked: it would take its own smoothness for noise, and collapse. `trust` (E, M) is one
    over the variance of each point against the others'.
    """
    weights = there * trust
    noise = np.full(len(target), least)
    for _ in range(ROUNDS):
        weighted = np.swapaxes(terms * weights[..., None], 1, 2)
        normal = weighted @ terms + 1e-6 * np.eye(terms.shape[-1])
        fitted = terms @ np.linalg.solve(normal.astype(np.complex128), weighted @ target[..., None])
        errors = np.abs(target - fitted[..., 0]) * np.sqrt(trust)
        noise = np.maximum(least, row_medians(errors, there) / RAYLEIGH)
        weights = there * trust * tukey(errors, RAYLEIGH * noise[:, None])
    return noise
