"""A measurement seen through the straightened lens: the same tracked points, where straightening puts them.

Nothing is measured again. Points near the edge of a wide lens are spread apart by straightening, and so is
their noise, so each counts by how much. The motion of every match is fitted anew with Tukey's biweight
(Holland & Welsch 1977), for all matches at once, and the poses are solved from those.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import is_nowhere_complex
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import (
    Complex,
    Floats,
    Similarities,
    as_complex,
    as_points,
    fit_similarities,
)
from keen_horizon.core.geometry.tilt import fit_tilts, tilted
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.motion.graph import Graph, bridged
from keen_horizon.core.motion.matched import (
    NOISE_PX,
    MatchedPoints,
    analysed_unit,
    biweight,
    matched_points,
    row_medians,
)
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS

ROUNDS = 4
FURTHEST_STRETCH = 8.0
LEAST_STRETCH = 0.05  # a projection pulls its rim together: what lies there must not outvote all else
TURNING_SPREAD = 2e-4  # 1/px at 640 wide: turning tilts a straightened picture far more than shake a bent one


@kept_lately
def straightened(measurement: Measurement, stage: OpticsStage) -> Measurement:
    """The measurement of the straightened picture."""
    count = len(measurement)
    if count < 2:
        return measurement
    unit = analysed_unit(measurement.size)
    points = matched_points(measurement)
    source, target, trust = _through(stage, points, measurement.first)
    weights, motion, tilted_motion, tilt = _fitted(source, target, trust, measurement.size, unit)
    total = np.maximum(weights.sum(1), 1e-9)
    centre = np.where(weights.sum(1) > 0, (weights * source).sum(1) / total, measurement.size.centre)
    blind = measurement.blind | ((weights[: count - 1] > 0).sum(1) < MINIMUM_INLIERS)
    graph = Graph(points.frames[:, 0], points.frames[:, 1], motion, tilted_motion, tilt, centre)
    posed = graph.posed(count, blind, measurement.size.half_diagonal / 2, 0.1 * unit)
    return replace(
        measurement,
        pairs=bridged(motion[: count - 1], blind),
        poses=posed.poses,
        tilted_poses=posed.tilted_poses,
        tilts=posed.tilts,
    )


def _through(stage: OpticsStage, points: MatchedPoints, first: int) -> tuple[Complex, Complex, Floats]:
    """Where the points lie straightened, and how much each is to be trusted, (E, M) each.

    `first` is the clip's number of the range's first frame.
    """
    here = points.numbers(0) + first
    source = as_points(points.source[points.there])
    straight, step = _straight(stage, here, source)
    beside, _ = _straight(stage, here, source + (1.0, 0.0))
    later, _ = _straight(stage, points.numbers(1) + first, as_points(points.target[points.there]))
    stretch = np.abs(beside - straight) * step
    told = (stretch < FURTHEST_STRETCH) & ~is_nowhere_complex(straight) & ~is_nowhere_complex(later)
    trust = np.where(told, 1 / np.maximum(stretch, LEAST_STRETCH) ** 2, 0.0)
    return points.table(straight), points.table(later), points.table(trust)


def _straight(stage: OpticsStage, frames: NDArray[np.intp], points: Floats) -> tuple[Complex, Floats]:
    """Points (P, 2), each of its own frame, straightened, and the step of each frame's stage."""

    def with_step(glass: LensStage, part: Floats) -> Floats:
        return np.column_stack([glass.straighten(part), np.full(len(part), glass.step)])

    found = stage.each(frames, points, with_step)
    return as_complex(found[:, :2]), found[:, 2]


def _fitted(
    source: Complex, target: Complex, trust: Floats, size: Size, unit: float
) -> tuple[Floats, Similarities, Similarities, Complex]:
    """Weights (E, M) of points, and (E,) similarities alone, the same with perspective, and that perspective.

    Which points agree is judged with perspective: a turning camera moves a straightened picture so.
    """
    middle, none = size.centre, np.zeros(len(source), np.complex128)
    centred = source - middle
    weights, tilt = trust, none
    z, t = fit_similarities(centred, target - middle, weights)
    for _ in range(ROUNDS):
        moved = tilted(tilt, centred, size)
        off = (target - middle - t[:, None]) / z[:, None] - moved
        errors = np.abs(off) * np.sqrt(trust)
        weights = trust * biweight(errors, trust > 0, NOISE_PX * unit)
        noise = np.maximum(NOISE_PX * unit, 1.2 * row_medians(errors, trust > 0))
        dz, dt, change = fit_tilts(
            centred, centred + off, weights / noise[:, None] ** 2, size, none, TURNING_SPREAD / unit
        )
        z, t, tilt = z * (1 + dz), t + z * dt, tilt + change
    plain_z, plain_t = fit_similarities(centred, target - middle, weights)

    def about_origin(z: Complex, t: Complex) -> Similarities:
        return Similarities(z, t + middle - z * middle)

    return weights, about_origin(plain_z, plain_t), about_origin(z, t), tilt
