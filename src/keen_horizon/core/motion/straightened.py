"""A measurement seen through the straightened lens: the same tracked points, where straightening puts them.

Nothing is measured again. Points near the edge of a wide lens are spread apart by straightening, and so is
their noise, so each counts by how much. The motion of every match is fitted anew with Tukey's biweight
(Holland & Welsch 1977), for all matches at once, and the poses are solved from those.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, Similarities, as_complex, as_points
from keen_horizon.core.geometry.tilt import fit_tilts, tilted
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.motion.graph import Graph, bridged
from keen_horizon.core.motion.measurement import Evidence, Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS

ANALYSED_SIDE = 640
ROUNDS = 4
MOST_POINTS = 80
FURTHEST_STRETCH = 8.0
FURTHEST_PX = 1e5
NOISE_PX = 0.05
GRID = (12, 8)
_LATELY: deque[tuple[Measurement, OpticsStage, Measurement]] = deque(maxlen=4)
TURNING_SPREAD = 2e-4  # 1/px at 640 wide: turning tilts a straightened picture far more than shake a bent one


def straightened(measurement: Measurement, stage: OpticsStage) -> Measurement:
    """The measurement of the straightened picture. The latest few are kept: motion is often solved anew on one lens."""
    if len(measurement) < 2:
        return measurement
    for known, through, result in list(_LATELY):
        if known is measurement and through is stage:
            return result
    result = _straightened(measurement, stage)
    _LATELY.append((measurement, stage, result))
    return result


def _straightened(measurement: Measurement, stage: OpticsStage) -> Measurement:
    count = len(measurement)
    unit = max(measurement.size.width, measurement.size.height) / ANALYSED_SIDE
    points = _points(measurement)
    source, target, trust = points.through(stage, measurement.first)
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


@dataclass(frozen=True)
class _Points:
    """Matches (E,) between `frames` (E, 2), as padded tables (E, M) of display points; `there` marks real ones."""

    frames: NDArray[np.intp]
    source: Complex
    target: Complex
    there: NDArray[np.bool_]

    def through(self, stage: OpticsStage, first: int) -> tuple[Complex, Complex, Floats]:
        """Where the points lie straightened, and how much each is to be trusted, (E, M) each.

        `first` is the clip's number of the range's first frame.
        """
        rows = np.broadcast_to(self.frames[:, :1], self.there.shape)[self.there] + first
        others = np.broadcast_to(self.frames[:, 1:], self.there.shape)[self.there] + first
        source = as_points(self.source[self.there])
        straight, step = _straight(stage, rows, source)
        beside, _ = _straight(stage, rows, source + (1.0, 0.0))
        later, _ = _straight(stage, others, as_points(self.target[self.there]))
        stretch = np.abs(beside - straight) * step
        trust = np.where((stretch < FURTHEST_STRETCH) & (np.abs(later) < FURTHEST_PX), 1 / stretch**2, 0.0)
        return self._table(straight), self._table(later), self._table(trust).real

    def _table(self, values: NDArray[np.generic]) -> Complex:
        table = np.zeros(self.there.shape, np.complex128)
        table[self.there] = values
        return table


def _straight(stage: OpticsStage, frames: NDArray[np.intp], points: Floats) -> tuple[Complex, Floats]:
    """Points (P, 2), each of its own frame, straightened, and the step of each frame's stage."""
    if stage.steady:
        return as_complex(stage.straighten(0, points)), np.full(len(points), stage.largest_step)
    found, steps = np.zeros(len(points), np.complex128), np.ones(len(points))
    order = np.argsort(frames, kind="stable")
    for rows in np.split(order, np.flatnonzero(np.diff(frames[order])) + 1):
        if len(rows):
            number = int(frames[rows[0]])
            found[rows] = as_complex(stage.straighten(number, points[rows]))
            steps[rows] = stage.at(number).step
    return found, steps


def _points(measurement: Measurement) -> _Points:
    """The points of every pair and match; where an earlier format kept none, a grid moved by the poses."""
    evidence, count = measurement.evidence, len(measurement)
    frames = np.stack([np.arange(count - 1), np.arange(1, count)], -1)
    if len(evidence.moved) == 0:
        size = measurement.size
        across, down = (np.linspace(0, side - 1, n) for side, n in zip((size.width, size.height), GRID, strict=True))
        grid = (across[None, :] + 1j * down[:, None]).ravel()
        anchored = np.stack([np.zeros(max(0, count - 2), np.intp), np.arange(2, count)], -1)
        frames = np.concatenate([frames, anchored])
        moved = (measurement.poses[frames[:, 1]].inverse() @ measurement.poses[frames[:, 0]]).apply(grid)
        return _Points(frames, np.broadcast_to(grid, moved.shape), moved, np.ones(moved.shape, np.bool_))
    matches = evidence.matches
    thin = _thinned(evidence)
    counts = np.r_[np.bincount(thin.pair, minlength=count - 1), np.diff(matches.starts)]
    there = np.arange(max(1, int(counts.max(initial=0)))) < counts[:, None]
    tables = []
    for pairs, others in ((evidence.points[thin.rows], matches.points), (evidence.moved[thin.rows], matches.moved)):
        table = np.zeros(there.shape, np.complex128)
        table[there] = as_complex(np.concatenate([pairs, others]))
        tables.append(table)
    believed = np.zeros(there.shape, np.bool_)
    believed[there] = np.r_[evidence.believed[thin.rows], np.ones(len(matches.points), np.bool_)]
    return _Points(np.concatenate([frames, matches.frames]), tables[0], tables[1], believed)


@dataclass(frozen=True)
class _Thinned:
    """Rows of the table of tracked points, and the pair that each belongs to."""

    rows: NDArray[np.intp]
    pair: NDArray[np.intp]


def _thinned(evidence: Evidence) -> _Thinned:
    """Every so many rows of a pair, so that none has more than MOST_POINTS."""
    counts = np.diff(evidence.starts)
    pair = np.repeat(np.arange(len(counts)), counts)
    place = np.arange(len(pair)) - evidence.starts[:-1][pair]
    rows = np.flatnonzero(place % (1 + counts // MOST_POINTS)[pair] == 0)
    return _Thinned(rows, pair[rows])


def _fitted(
    source: Complex, target: Complex, trust: Floats, size: Size, unit: float
) -> tuple[Floats, Similarities, Similarities, Complex]:
    """Weights (E, M) of points, and (E,) similarities alone, the same with perspective, and that perspective.

    Which points agree is judged with perspective: a turning camera moves a straightened picture so.
    """
    middle, none = size.centre, np.zeros(len(source), np.complex128)
    centred = source - middle
    weights, tilt = trust, none
    z, t = _similarity(centred, target - middle, weights)
    for _ in range(ROUNDS):
        moved = tilted(tilt, centred, size)
        off = (target - middle - t[:, None]) / z[:, None] - moved
        errors = np.abs(off) * np.sqrt(trust)
        weights = trust * _biweight(errors, trust > 0, NOISE_PX * unit)
        noise = np.maximum(NOISE_PX * unit, 1.2 * _median(errors, trust > 0))
        dz, dt, change = fit_tilts(
            centred, centred + off, weights / noise[:, None] ** 2, size, none, TURNING_SPREAD / unit
        )
        z, t, tilt = z * (1 + dz), t + z * dt, tilt + change
    plain_z, plain_t = _similarity(centred, target - middle, weights)

    def about_origin(z: Complex, t: Complex) -> Similarities:
        return Similarities(z, t + middle - z * middle)

    return weights, about_origin(plain_z, plain_t), about_origin(z, t), tilt


def _similarity(source: Complex, target: Complex, weights: Floats) -> tuple[Complex, Complex]:
    total = np.maximum(weights.sum(1), 1e-9)
    from_mean, to_mean = (weights * source).sum(1) / total, (weights * target).sum(1) / total
    off = source - from_mean[:, None]
    power = (weights * np.abs(off) ** 2).sum(1)
    turned = (weights * np.conj(off) * (target - to_mean[:, None])).sum(1)
    z = np.where(power > 0, turned / np.maximum(power, 1e-9), 1)
    return z, to_mean - z * from_mean


def _biweight(errors: Floats, there: NDArray[np.bool_], least: float) -> Floats:
    spread = np.maximum(least, 1.2 * _median(errors, there))[:, None]
    return np.asarray(np.where(there, np.clip(1 - (errors / (4.685 * spread)) ** 2, 0, None) ** 2, 0.0))


def _median(values: Floats, there: NDArray[np.bool_]) -> Floats:
    """The median (E,) of what is there of each row (E, M); 0 where nothing is."""
    ordered = np.sort(np.where(there, values, np.inf), axis=1)
    middle = np.maximum(there.sum(1) - 1, 0) // 2
    found = np.take_along_axis(ordered, middle[:, None], 1)[:, 0]
    return np.asarray(np.where(there.any(1), found, 0.0))
