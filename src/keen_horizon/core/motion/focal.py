"""The focal length behind a lens whose family does not tell it, from how the camera turned.

Straight lines say how a lens bends, but for fisheyes not which angles it sees by. A turning camera does: rays move by
a rotation with the right focal length only. It is looked for where that leaves least, over the matches that moved most.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.motion.matched import NOISE_PX, MatchedPoints, analysed_unit, matched_points
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.motion.turns import match_turns

TRIED = np.geomspace(0.4, 5.0, 11)  # half-diagonals: 136 to 23 degrees from corner to corner
FINER = 3
MATCHES = 24
MOST_PX = 2.0  # an error at 640 wide beyond which a point counts as not of the scene
CLEAR = 0.8  # of what the ends of the range leave, the best leaves less where the motion tells anything


@kept_lately
def told_by_motion(measurement: Measurement, stage: OpticsStage) -> OpticsStage | None:
    """The optics with the focal length that the motion tells; None where it tells none."""
    focal = focal_from_motion(measurement, stage)
    return stage.with_focal(focal) if focal else None


def focal_from_motion(measurement: Measurement, stage: OpticsStage) -> float | None:
    """The focal length, half-diagonals; None where the motion does not tell it."""
    if len(measurement) < 2:
        return None
    points = _moved_most(matched_points(measurement))
    if points is None:
        return None
    unit = analysed_unit(measurement.size)

    def left(focal: float) -> float:
        found = match_turns(stage.with_focal(focal), points, measurement.first, NOISE_PX * unit)
        return float(np.minimum(found.errors[points.there], MOST_PX * unit).mean())

    tried = TRIED
    costs = np.array([left(focal) for focal in tried])
    ends = min(costs[0], costs[-1])
    for _ in range(FINER):
        best = int(np.argmin(costs))
        if best in (0, len(tried) - 1):
            return None
        tried = np.geomspace(tried[best - 1], tried[best + 1], 5)
        costs = np.array([costs[best - 1], left(tried[1]), costs[best], left(tried[3]), costs[best + 1]])
    return float(tried[np.argmin(costs)]) if costs.min() < CLEAR * ends else None


def _moved_most(points: MatchedPoints) -> MatchedPoints | None:
    """The matches whose points moved furthest; None where none has points enough."""
    counts = points.there.sum(1)
    moved = np.where(points.there, np.abs(points.target - points.source), 0.0).sum(1) / np.maximum(counts, 1)
    enough: NDArray[np.intp] = np.flatnonzero(counts >= 2 * MINIMUM_INLIERS)
    rows = enough[np.argsort(-moved[enough])[:MATCHES]]
    if not len(rows):
        return None
    return points.part(rows)
