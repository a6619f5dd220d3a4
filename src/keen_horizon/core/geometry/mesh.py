"""A smooth field of small displacements over a picture: a uniform quadratic B-spline on a grid of cells.

What a place gets is a weighted mean of the 3 x 3 controls around it (de Boor 1978, A Practical Guide to Splines): so no
place moves further than the furthest control, and what bounds differences of controls bounds the stretch everywhere.

Controls lie in the middle of cells, and of one more cell beyond each side. They are in display pixels, x and y.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates

from keen_horizon.core.geometry.nowhere import is_nowhere
from keen_horizon.core.geometry.picture import Size

Floats = NDArray[np.float64]

CELLS = 24  # along the longer side: 40 px of 960, about one point a cell (a choice)
LOOKED_AT = 2  # places a cell and direction at which a stretch is told
ROUNDS_BACK = 4  # each leaves a twentieth, where nothing is stretched further


@dataclass(frozen=True)
class Grid:
    """The cells of a picture of display size `size`, about as wide as they are high."""

    size: Size

    @cached_property
    def cells(self) -> tuple[int, int]:
        """Cells (across, down)."""
        longer = max(self.size.width, self.size.height)
        return max(2, round(CELLS * self.size.width / longer)), max(2, round(CELLS * self.size.height / longer))

    @property
    def shape(self) -> tuple[int, int]:
        """Controls (rows, columns)."""
        return self.cells[1] + 2, self.cells[0] + 2

    @cached_property
    def cell(self) -> Floats:
        """Width and height (2,) of a cell, px."""
        return np.array([self.size.width / self.cells[0], self.size.height / self.cells[1]])

    @cached_property
    def places(self) -> Floats:
        """Where the controls lie (rows, columns, 2), px."""
        rows, columns = self.shape
        across, down = np.meshgrid(np.arange(columns) - 0.5, np.arange(rows) - 0.5)
        return np.asarray(np.stack([across, down], -1) * self.cell - 0.5)

    def steps(self, points: Floats) -> Floats:
        """Points (..., 2) in steps of the controls, from the first."""
        return np.asarray((points + 0.5) / self.cell + 0.5)

    def at(self, controls: Floats, points: Floats) -> Floats:
        """The field of controls (rows, columns, 2) at points (..., 2); beyond the picture that of its border."""
        across, down = (
            np.clip(steps, 0.5, count - 1.5)
            for steps, count in zip(np.moveaxis(self.steps(points), -1, 0), controls.shape[1::-1], strict=True)
        )
        fields = [
            map_coordinates(controls[..., axis], [down, across], order=2, prefilter=False, mode="nearest")
            for axis in (0, 1)
        ]
        return np.stack(fields, -1)


@dataclass(frozen=True, eq=False)
class MeshOverTime:
    """The field of every frame from clip number `first`: `controls` (N, rows, columns, 2) float32."""

    first: int
    size: Size
    controls: NDArray[np.float32]

    def __len__(self) -> int:
        return len(self.controls)

    @cached_property
    def grid(self) -> Grid:
        """The grid that the controls belong to."""
        return Grid(self.size)

    @cached_property
    def largest(self) -> Floats:
        """How far a control of each frame moves at most (N,), px."""
        return np.asarray(np.hypot(self.controls[..., 0], self.controls[..., 1]).max((1, 2)), np.float64)

    def of(self, frame: int) -> Floats:
        """The controls of a frame of the clip; beyond the range those of its nearest."""
        return np.asarray(self.controls[min(max(frame - self.first, 0), len(self) - 1)], np.float64)

    def moved(self, frame: int, points: Floats) -> Floats:
        """Points (P, 2) of a frame, moved by its field; nowhere what was so."""
        far = is_nowhere(points)
        if not far.any():
            return np.asarray(points + self.grid.at(self.of(frame), points))
        near = np.where(far[:, None], 0.0, points)
        return np.where(far[:, None], points, near + self.grid.at(self.of(frame), near))

    def moved_back(self, frame: int, points: Floats) -> Floats:
        """The reverse of `moved`: the field is so flat that a few rounds settle it to a thousandth of a pixel."""
        found = points
        for _ in range(ROUNDS_BACK):
            found = points - (self.moved(frame, found) - found)
        return found


def stretch_of(controls: Floats, grid: Grid) -> Floats:
    """By how much lengths change at most (N,) where fields of controls (N, rows, columns, 2) move a picture."""
    along, down = _gradients(controls, grid)
    (xx, yx), (xy, yy) = np.moveaxis(along, -1, 0), np.moveaxis(down, -1, 0)
    mean, apart = np.hypot(2 + xx + yy, yx - xy), np.hypot(xx - yy, yx + xy)
    longest, shortest = (mean + apart) / 2, (mean - apart) / 2  # the singular values of 1 and the field's change
    return np.asarray(np.maximum(longest - 1, 1 - shortest).max((1, 2)))


def _gradients(controls: Floats, grid: Grid) -> tuple[Floats, Floats]:
    """The fields' changes (N, down, across, 2) along x and down y, px a px, where stretches are looked at."""
    weights = [_weights(steps, count) for steps, count in zip(_ladders(grid), grid.shape[::-1], strict=True)]
    (x, x_slope), (y, y_slope) = weights
    along = np.einsum("xc,yr,nrck->nyxk", x_slope / grid.cell[0], y, controls, optimize=True)
    down = np.einsum("xc,yr,nrck->nyxk", x, y_slope / grid.cell[1], controls, optimize=True)
    return along, down


def _ladders(grid: Grid) -> tuple[Floats, Floats]:
    """Steps of the controls at which stretches are looked at, across and down."""
    across, down = (np.linspace(0, cells, LOOKED_AT * cells + 1) + 0.5 for cells in grid.cells)
    return across, down


def _weights(steps: Floats, count: int) -> tuple[Floats, Floats]:
    """What each of `count` controls weighs at steps (P,), and the slope of that, (P, count) each."""
    away = steps[:, None] - np.arange(count)
    near, size = np.abs(away) <= 0.5, np.abs(away)
    weights = np.where(near, 0.75 - away**2, np.where(size < 1.5, (1.5 - size) ** 2 / 2, 0.0))
    slopes = np.where(near, -2 * away, np.where(size < 1.5, -np.sign(away) * (1.5 - size), 0.0))
    return weights, slopes
