"""Fall-off, from pictures of something plain: a wall, a sky, a diffuser in front of the lens.

A wall has a gradient of its own. What it does across the frame is parted from the glass by its shape: the glass is
round about a centre, the wall rises evenly to one side and bends more one way than the other,

    light = S (1 + g . p + u x y + v (x^2 - y^2)) gain(|p - c|).

A wall that bends alike both ways cannot be told from glass; how much this one bends unlike is taken for how much that
may be, and doubted. An off-centre gain is told from an even slope by what they do further out.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from keen_horizon.core.finding.dead import FoundDead
from keen_horizon.core.finding.falloff import MEAN, NOT_TOLD, PRIORS, WORST, FoundFalloff, doubts_of, log_gain
from keen_horizon.core.glass.falloff import Falloff

Floats = NDArray[np.float64]

OFF = 0.004  # of the light, by which a cell may miss: texture and grain that frames share
ALIKE = 15  # cells that are as good as one: what is uneven is uneven over some
SLOPE, BEND = 0.5, 0.15  # priors of what a wall does over half a diagonal, shares of its light
READABLE = (0.05, 0.985)  # coded shares, as in `finding.falloff`
FEWEST = 0.5  # of the cells must be readable
PLAIN = 0.03  # of the light, that cells may be off by as a rule, or nothing plain was filmed
MARGIN = 3.0  # cells inside a dead edge's shade that tell nothing


def falloff_of_plain(
    coded: NDArray[np.float32], light: NDArray[np.float32], dead: FoundDead | None = None
) -> FoundFalloff:
    """The fall-off over cells of something plain, so bright as `coded` and of so much `light`, (rows, columns)."""
    rows, columns = coded.shape
    half = np.hypot(rows, columns) / 2
    x, y = np.meshgrid((np.arange(columns) - (columns - 1) / 2) / half, (np.arange(rows) - (rows - 1) / 2) / half)
    told = (coded > READABLE[0]) & (coded < READABLE[1])
    if dead is not None:
        told &= dead.edge.room(x + 1j * y) > dead.edge.softness / 2 + MARGIN / half
    if told.mean() < FEWEST:
        return NOT_TOLD
    x, y, seen = x[told], y[told], np.log(light[told].astype(np.float64))
    priors = np.concatenate([PRIORS, [SLOPE, SLOPE, BEND, BEND]])

    def missed(figures: Floats) -> Floats:
        gain, _ = log_gain(figures[:5], x, y)
        left = seen - gain - np.log(_wall(figures[5:], x, y))
        return np.concatenate([(left - np.median(left)) / OFF / np.sqrt(ALIKE), figures / priors])

    fit = least_squares(missed, np.zeros(9), loss="soft_l1", x_scale=priors, bounds=(-4 * priors, 4 * priors))
    left = fit.fun[: len(seen)] * OFF * np.sqrt(ALIKE)
    if 1.4826 * np.median(np.abs(left)) > PLAIN:
        return NOT_TOLD
    spread = max(1.0, 1.4826 * float(np.median(np.abs(left))) / OFF)
    covariance = np.linalg.inv(fit.jac.T @ fit.jac)[:5, :5] * spread**2
    # a wall that bends alike both ways looks like c1
    covariance[0, 0] += (fit.x[7] ** 2 + fit.x[8] ** 2) / 4
    figures = fit.x[:5]
    doubts = 2 * doubts_of(figures, covariance, columns / rows, dead)
    falloff = Falloff(tuple(figures[:3]), complex(figures[3], figures[4]))
    sure = bool(doubts.max() < WORST and doubts.mean() < MEAN)
    errors = tuple(np.sqrt(np.diag(covariance)))
    return FoundFalloff(falloff, errors, float(doubts.max()), float(doubts.mean()), sure, dead)


def _wall(figures: Floats, x: Floats, y: Floats) -> Floats:
    """The light of the wall itself, 1 in the middle."""
    across, down, askew, unlike = figures
    light = 1 + across * x + down * y + askew * x * y + unlike * (x**2 - y**2)
    return np.asarray(np.maximum(light, 0.05))
