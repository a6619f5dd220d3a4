"""How much of what moves apart is unsteady: what every place of the steadied picture gathers from pair to pair, less
the same made smooth as the path is (after Liu et al. 2016, MeshFlow: profiles of vertices).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.linalg import solveh_banded
from scipy.ndimage import map_coordinates, spline_filter1d

from keen_horizon.core.geometry.mesh import Grid
from keen_horizon.core.geometry.nowhere import is_nowhere
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.bending.chart import Chart
from keen_horizon.core.path.bending.parallax import Parallax
from keen_horizon.core.path.program import difference_bands
from keen_horizon.core.path.wish import Pull, pull_of
from keen_horizon.core.treatment.motion import Motion

LEAST_SLOPE = 0.05  # of areas: no camera's picture shrinks so from frame to frame


@dataclass(frozen=True)
class Lattice:
    """The corners of the cells of the steadied picture (rows, columns, 2), px."""

    grid: Grid
    places: Floats

    @staticmethod
    def over(grid: Grid) -> Lattice:
        """That of a grid."""
        across, down = (np.arange(cells + 1) for cells in grid.cells)
        return Lattice(grid, np.stack(np.meshgrid(across, down), -1) * grid.cell - 0.5)

    def at(self, values: Floats, points: Floats) -> Floats:
        """Values (rows, columns, k) at points (..., 2), linear between the corners."""
        across, down = np.moveaxis((points + 0.5) / self.grid.cell, -1, 0)
        found = [map_coordinates(values[..., k], [down, across], order=1, mode="nearest") for k in range(2)]
        return np.stack(found, -1)

    def carried(self, chart: Chart, place: int) -> Floats:
        """Where the corners lie in a frame's source (rows, columns, 2); unseen ones stay where they are."""
        flat = self.places.reshape(-1, 2)
        found = chart.source(place, flat)
        return np.where(is_nowhere(found)[:, None], flat, found).reshape(self.places.shape)

    def slopes(self, carried: Floats) -> Floats:
        """How places carried so (rows, columns, 2) move with the corners: (rows, columns, 2, 2)."""
        width, height = self.grid.cell
        down, across = np.gradient(carried, height, width, axis=(0, 1))
        slopes = np.stack([across, down], -1)
        torn = np.abs(np.linalg.det(slopes)) < LEAST_SLOPE  # beside what was not seen
        return np.where(torn[..., None, None], np.eye(2), slopes)


def wanted(parallax: Parallax, chart: Chart, pulls: list[tuple[slice, Pull]]) -> Floats:
    """The field that would lay every frame's picture to rest, px, where controls lie (N, rows, columns, 2).

    `pulls` are those of shots, with their frames.
    """
    lattice, count = Lattice.over(parallax.grid), len(chart.homographies)
    gathered = _gathered(parallax, chart, lattice)
    unsteady = np.zeros_like(gathered)
    for frames, pull in pulls:
        unsteady[frames] = pull.strength[:, None, None, None] * _unsteady(gathered[frames], pull)
    found = np.zeros((count, *parallax.grid.shape, 2))
    wanted_at = parallax.grid.places.reshape(-1, 2)
    for place in range(count):
        slopes = lattice.slopes(lattice.carried(chart, place))
        of_source = np.einsum("rcij,rcj->rci", slopes, unsteady[place])
        places = chart.steadied(place, wanted_at)
        far = is_nowhere(places)
        values = lattice.at(of_source, np.where(far[:, None], 0.0, places))
        found[place] = np.where(far[:, None], 0.0, values).reshape(*parallax.grid.shape, 2)
    return found


def as_controls(values: Floats) -> Floats:
    """The controls (N, rows, columns, 2) of fields that have such values where the controls lie."""
    once = spline_filter1d(values, order=2, axis=1, mode="mirror")
    return np.asarray(spline_filter1d(once, order=2, axis=2, mode="mirror"))


def _gathered(parallax: Parallax, chart: Chart, lattice: Lattice) -> Floats:
    """What the corners of the steadied picture have moved apart by since the first frame (N, rows, columns, 2)."""
    gathered = np.zeros((len(chart.homographies), *lattice.places.shape))
    for pair in range(len(gathered) - 1):
        carried = lattice.carried(chart, pair + 1)
        moved = parallax.grid.at(parallax.controls[pair], carried)
        upright = np.linalg.solve(lattice.slopes(carried), moved[..., None])[..., 0]
        gathered[pair + 1] = gathered[pair] + upright
    return gathered


def _unsteady(gathered: Floats, pull: Pull) -> Floats:
    """Gathered motion (N, rows, columns, 2) less the same, smooth."""
    count = len(gathered)
    if count < 2:
        return np.zeros_like(gathered)
    flat = gathered.reshape(count, -1)
    bands = difference_bands(pull.first, pull.third)
    smooth = solveh_banded(bands[: min(4, count)], flat - flat[0], lower=True, check_finite=False) + flat[0]
    return np.asarray((flat - smooth).reshape(gathered.shape))


def pulls_of(measurement: Measurement, motion: Motion) -> list[tuple[slice, Pull]]:
    """The frames of every shot, and what the motion asks of them."""
    ends = [0, *(1 + np.flatnonzero(measurement.cut)).tolist(), len(measurement)]
    return [
        (slice(start, stop), pull_of(motion, measurement.first + start, stop - start, measurement.rate))
        for start, stop in pairwise(ends)
    ]
