"""What steadiness costs: zoom against remaining shake for one clip, intent and set of freedoms.

Every point is a full solve with its zoom as the limit, so choosing it gives just what the curve showed. Behind a lens
each point goes on from the path of the last one, and choosing it leaves the same shake to about one per cent.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from keen_horizon.core.errors import Stopped
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.solve import PathProblem
from keen_horizon.core.treatment.document import Treatment

POINTS = 12
COARSE_RAYS = 32
HIGHEST = 3.0
SEARCH_STEPS = 12
CLEARLY = 0.98  # of another's shake: what a wish leaves is not the very least that its zoom allows


@dataclass(frozen=True)
class TradePoint:
    """With this zoom limit, the path zooms so far and this shake remains, percent of the width a frame squared."""

    limit: float
    zoom: float
    shake_percent: float


def trade_off(
    measurement: Measurement,
    treatment: Treatment,
    pins: tuple[PinTrack, ...] = (),
    points: int = POINTS,
    should_stop: Callable[[], bool] = lambda: False,
) -> list[TradePoint]:
    """The curve, from no zoom at all to all that the wish asks for (3x at most). Raises SolveError, Stopped.

    What frames lend is not the more the more may be zoomed: points that another clearly beats are left out.
    """
    problem = _filling(measurement, treatment, pins)
    free = _point(problem, HIGHEST)
    highest = max(free.zoom, 1.0005)
    curve: list[TradePoint] = []
    for limit in 1 + (highest - 1) * np.linspace(0, 1, points)[:-1] ** 1.4:
        if should_stop():
            raise Stopped("The trade-off was no longer wanted.")
        curve.append(_point(problem, float(limit)))
    curve.append(free)
    return [point for point in curve if not any(_beats(other, point) for other in curve)]


def _beats(one: TradePoint, other: TradePoint) -> bool:
    return one.zoom < other.zoom and one.shake_percent < CLEARLY * other.shake_percent


def smallest_zoom(
    measurement: Measurement, treatment: Treatment, shake_percent: float, pins: tuple[PinTrack, ...] = ()
) -> TradePoint:
    """The point of smallest zoom at which no more than `shake_percent` remains.

    Where even the free path leaves more, that path's point. Raises SolveError.
    """
    problem = _filling(measurement, treatment, pins)
    best = _point(problem, HIGHEST)
    low, high = 1.0, best.zoom
    for _ in range(SEARCH_STEPS):
        if best.shake_percent > shake_percent or high - low < 5e-4:
            break
        found = _point(problem, (low + high) / 2)
        if found.shake_percent <= shake_percent:
            best, high = found, found.limit
        else:
            low = found.limit
    return best


def _filling(measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...]) -> PathProblem:
    edges = treatment.edges
    if edges.way == "leave":
        edges = edges.model_copy(update={"way": "fill"})
    return PathProblem(measurement, treatment.model_copy(update={"edges": edges}), pins, COARSE_RAYS)


def _point(problem: PathProblem, limit: float) -> TradePoint:
    path = problem.path(limit)
    return TradePoint(limit, float(path.zoom.max()), remaining_shake(path))


def remaining_shake(path: CameraPath) -> float:
    """Shake of the steadied path, percent of the width a frame squared."""
    return 100 * shake(path.steadied.poses, path.size) / path.size.width
