"""How the points of a pair move apart from the pair's one motion: a field of the source picture.

The field is the smoothest that most points agree with (Tukey's biweight): penalised quadratic B-splines (Eilers & Marx
1996), banded since only neighbours touch.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solveh_banded

from keen_horizon.core.geometry.mesh import Grid
from keen_horizon.core.geometry.nowhere import is_nowhere
from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.belief.labels import BACKGROUND, IGNORED
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.bending.chart import Onward

Floats = NDArray[np.float64]

ROUNDS = 4
AROUND_S = 1.0  # to either side, over which a point's steady way apart is told
AT_A_TIME = 400  # pairs that are solved together: 80 MB
NOISE_PX = 0.12  # of a point beside its neighbours, at 640 wide: corners 0.05, weak points more
FURTHEST_PX = 24.0  # that a point may move apart, at 640 wide: further ones move by themselves
FIRST_COST, MOST_COST = 0.02, 20.0  # of the field's slope beside one point, until noise and slopes are known; at most
EDGES = 0.25  # slopes lie together where near meets far: the usual ones are less than their mean
CURVE, REST = 3.0, 1e-3  # the same of its curvature, beside the slope's, and of being there at all


@dataclass(frozen=True, eq=False)
class Parallax:
    """Of every pair (N - 1) the field's controls (N - 1, rows, columns, 2), px of the source at its later frame; and
    what was seen: points (P, 2) of the earlier frame and where they had `moved` (P, 2), by how much that is `apart`
    (P, 2) from the pair's one motion, unsteadily, and of which `pair` (P,).
    """

    grid: Grid
    controls: Floats
    pair: NDArray[np.intp]
    points: Floats
    moved: Floats
    apart: Floats

    def __len__(self) -> int:
        return len(self.controls)


@kept_lately
def parallax(measurement: Measurement, onward: Onward) -> Parallax:
    """How points move apart over a measured range, the measurement's belief heeded."""
    grid, unit, count = Grid(measurement.size), analysed_unit(measurement.size), len(measurement) - 1
    rows = _rows(measurement)
    pair, points, moved = _seen(measurement, rows)
    awaited = onward.places(pair, points)
    apart = _unsteady(measurement, rows, pair, moved - awaited)
    near = ~is_nowhere(awaited) & (np.hypot(*apart.T) < FURTHEST_PX * unit)
    rows, pair, points, moved, apart = rows[near], pair[near], points[near], moved[near], apart[near]
    controls, belief = np.zeros((count, *grid.shape, 2)), np.zeros(len(pair))
    for start in range(0, count, AT_A_TIME):
        part = np.flatnonzero((pair >= start) & (pair < start + AT_A_TIME))
        pairs = slice(start, min(count, start + AT_A_TIME))
        if len(part):
            given = pair[part] - start, moved[part], apart[part]
            controls[pairs], belief[part] = _fields(grid, pairs.stop - start, *given, NOISE_PX * unit)
    told = (belief > 0) | _layered(measurement, rows)
    return Parallax(grid, controls, pair[told], points[told], moved[told], apart[told])


def _rows(measurement: Measurement) -> NDArray[np.intp]:
    """The rows of the evidence that tell something: not of blind pairs or cuts, nor what is ignored."""
    evidence = measurement.evidence
    if not len(evidence.moved):
        return np.zeros(0, np.intp)
    usable = np.repeat(~(measurement.blind | measurement.cut), np.diff(evidence.starts))
    if len(evidence.layer):
        usable = usable & (evidence.layer != IGNORED)
    return np.flatnonzero(usable)


def _layered(measurement: Measurement, rows: NDArray[np.intp]) -> NDArray[np.bool_]:
    """Which of some rows (P,) belong to a layer that moves as one, the background or another."""
    layer = measurement.evidence.layer
    return layer[rows] >= BACKGROUND if len(layer) else np.zeros(len(rows), np.bool_)


def _seen(measurement: Measurement, rows: NDArray[np.intp]) -> tuple[NDArray[np.intp], Floats, Floats]:
    """Of some rows their pairs (P,), and their points (P, 2) in the earlier and in the later frame."""
    evidence = measurement.evidence
    pair = np.repeat(np.arange(len(measurement) - 1), np.diff(evidence.starts))[rows]
    points, moved = evidence.points[rows], evidence.moved[rows]
    return pair, np.asarray(points, np.float64), np.asarray(moved, np.float64)


def _unsteady(measurement: Measurement, rows: NDArray[np.intp], pair: NDArray[np.intp], apart: Floats) -> Floats:
    """What points moved apart (P, 2), less what each does in the mean around.

    A walker's way is no shake, nor is that of near things when the camera travels. Where the format does not tell whose
    points are, it is all of it.
    """
    if not len(measurement.evidence.identity):
        return apart
    identity, around = measurement.evidence.identity[rows], max(1, round(AROUND_S * measurement.rate))
    order = np.lexsort((pair, identity))
    first, last = _runs(identity[order])
    place = np.arange(len(order))
    start, stop = np.maximum(first, place - around), np.minimum(last, place + around + 1)
    told = np.where(is_nowhere(apart)[:, None], 0.0, apart)[order]
    summed = np.concatenate([np.zeros((1, 2)), np.cumsum(told, axis=0)])
    found = np.empty_like(apart)
    found[order] = apart[order] - (summed[stop] - summed[start]) / (stop - start)[:, None]
    return found


def _runs(values: NDArray[np.int32]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Of each place among sorted values (P,) where its run of like ones begins, and where it has ended."""
    ends = np.r_[0, 1 + np.flatnonzero(np.diff(values)), len(values)]
    many = np.diff(ends)
    return np.repeat(ends[:-1], many), np.repeat(ends[1:], many)


def _fields(
    grid: Grid, pairs: int, pair: NDArray[np.intp], points: Floats, apart: Floats, noise: float
) -> tuple[Floats, Floats]:
    """The fields (pairs, rows, columns, 2) of points (P, 2) that moved `apart` (P, 2), and how far each is believed."""
    knots, weights = _basis(grid, points)
    weight = np.ones(len(points))
    controls = np.zeros((pairs, *_lying(grid), 2))
    shorter = _lying(grid)[1]
    smooth, cost = _smoothness(grid, pairs), FIRST_COST
    for _ in range(ROUNDS):
        bands = cost * smooth
        bands[0] += REST
        places = pair[:, None] * _many(grid) + knots
        right = np.zeros((pairs * _many(grid), 2))
        for axis in (0, 1):
            right[:, axis] = np.bincount(
                places.ravel(), (weights * (weight * apart[:, axis])[:, None]).ravel(), len(right)
            )
        for one in range(9):
            for other in range(one + 1):
                product = weight * weights[:, one] * weights[:, other]
                away = _AWAY[0][one, other] * shorter + _AWAY[1][one, other]
                bands[away] += np.bincount(places[:, other], product, len(right))
        found = solveh_banded(bands, right, lower=True, overwrite_ab=True, check_finite=False)
        controls = found.reshape(pairs, *_lying(grid), 2)
        left = apart - (weights[..., None] * found[places]).sum(1)
        weight = tukey(np.hypot(*left.T), noise)
        cost = _cost(left, weight, controls)
    return (controls if _upright(grid) else controls.swapaxes(1, 2)), weight


_ONE, _OTHER = np.divmod(np.arange(9), 3)
_AWAY = _ONE[:, None] - _ONE, _OTHER[:, None] - _OTHER  # between two of nine controls, the longer and the shorter way


def _upright(grid: Grid) -> bool:
    """Whether rows are longer than columns are: the shorter way is numbered first, so that bands are few."""
    return grid.shape[0] >= grid.shape[1]


def _lying(grid: Grid) -> tuple[int, int]:
    """Controls, (the longer way, the shorter way)."""
    return grid.shape if _upright(grid) else grid.shape[::-1]


def _many(grid: Grid) -> int:
    return grid.shape[0] * grid.shape[1]


def _basis(grid: Grid, points: Floats) -> tuple[NDArray[np.intp], Floats]:
    """The nine controls (P, 9) that each point lies among, ascending, and what they weigh there."""
    steps = grid.steps(points) if not _upright(grid) else grid.steps(points)[:, ::-1]
    longer, shorter = _lying(grid)
    sides = []
    for axis, count in ((0, longer), (1, shorter)):
        middle = np.clip(np.rint(steps[:, axis]).astype(np.intp), 1, count - 2)
        away = np.clip(steps[:, axis] - middle, -0.5, 0.5)
        three = np.stack([(0.5 - away) ** 2 / 2, 0.75 - away**2, (0.5 + away) ** 2 / 2], -1)
        sides.append((middle[:, None] + np.arange(-1, 2), three))
    (i, a), (j, b) = sides
    knots = (i[:, :, None] * shorter + j[:, None, :]).reshape(len(points), 9)
    return knots, (a[:, :, None] * b[:, None, :]).reshape(len(points), 9)


def _cost(left: Floats, weight: Floats, controls: Floats) -> float:
    """What slopes cost beside a point: its noise, squared, for what slopes are, squared."""
    noise = float((weight * (left**2).sum(1)).sum() / max(1e-9, float(weight.sum())))
    slopes = [float((np.diff(controls, axis=axis) ** 2).sum(-1).mean()) for axis in (1, 2)]
    return float(np.clip(EDGES * noise / max(1e-9, float(np.mean(slopes))), FIRST_COST, MOST_COST))


def _smoothness(grid: Grid, pairs: int) -> Floats:
    """What unsmooth fields cost, in SciPy's lower banded form, for every pair alike."""
    longer, shorter = _lying(grid)
    along, across = (_costs(count) for count in (longer, shorter))
    whole = np.kron(along, np.eye(shorter)) + np.kron(np.eye(longer), across)
    bands = 2 * shorter + 3
    lower = np.zeros((bands, longer * shorter))
    for away in range(bands):
        lower[away, : longer * shorter - away] = np.diag(whole, -away)
    return np.tile(lower, (1, pairs))


def _costs(count: int) -> Floats:
    slope, curve = np.diff(np.eye(count), axis=0), np.diff(np.eye(count), n=2, axis=0)
    return np.asarray(slope.T @ slope + CURVE * curve.T @ curve)
