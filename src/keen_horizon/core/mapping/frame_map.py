"""The frame map: for points of a delivered frame, the points of the source that they come from.

A map knows two cameras, the one that delivers and the one that filmed, and where both stood; what it is made of is its
own affair: `staged` composes a window, a projection, a turn, a lens with its rows and a mesh, and is one matrix where
all of them are; `sphere` goes by rays. Renderer, viewer, plates and marks ask no more of it than this.

Points are (N, 2) in display pixels (upright, square) of the output and of the source. What was seen nowhere comes out
beyond every picture (see `geometry.nowhere`) instead of with a mask beside it: every later step keeps it there by
itself, and a mask would have to be carried through all of them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.chroma import chroma_place

Floats = NDArray[np.float64]
CELL = 8

Maps = tuple[NDArray[np.float32], NDArray[np.float32]]  # x and y of every sample (rows, columns)


class FrameMap(Protocol):
    """From a frame's delivered picture to its source."""

    def places(self, frame: int, points: Floats) -> Floats:
        """Where points (N, 2) of the picture delivered for a clip's frame come from."""

    def plane_maps(self, frame: int, target: PlaneGrid, source: PlaneGrid) -> Maps:
        """Where each sample of a delivered plane comes from in the source's plane."""


@dataclass(frozen=True)
class PlaneGrid:
    """How the samples of one stored plane lie in the display frame.

    `shape` is (rows, columns); `display_from_plane` (3, 3) holds pixel shape and chroma subsampling.
    """

    shape: tuple[int, int]
    display_from_plane: Floats

    def same_as(self, other: PlaneGrid) -> bool:
        """Whether both have the same samples at the same places."""
        return self.shape == other.shape and np.allclose(self.display_from_plane, other.display_from_plane)

    @staticmethod
    def of(shape: tuple[int, int], subsampling: tuple[int, int], display_from_luma: Floats, site: int = 0) -> PlaneGrid:
        """A plane of a picture whose luma samples lie so, with `subsampling` (across, down).

        `site` says where chroma samples lie among luma's (see `media.chroma`); it means nothing without subsampling.
        """
        across, down = subsampling
        x, y = chroma_place(site, across, down)
        luma_from_plane = np.array([[across, 0, x], [0, down, y], [0, 0, 1]], np.float64)
        return PlaneGrid(shape, display_from_luma @ luma_from_plane)


def meshed_maps(places: Callable[[Floats], Floats], shape: tuple[int, int]) -> Maps:
    """A smooth map, evaluated in the middle of cells of CELL samples a side and bilinear between them.

    Cell middles are where enlarging a picture puts its samples, so enlarging the mesh is exact there.
    """
    rows, columns = shape
    down, across = ((np.arange(-1, -(-side // CELL) + 1) + 0.5) * CELL - 0.5 for side in (rows, columns))
    x, y = np.meshgrid(across, down)
    found = places(np.stack([x.ravel(), y.ravel()], -1)).astype(np.float32)

    def enlarged(values: NDArray[np.float32]) -> NDArray[np.float32]:
        size = (len(across) * CELL, len(down) * CELL)
        whole = cv2.resize(values.reshape(len(down), len(across)), size, interpolation=cv2.INTER_LINEAR)
        return np.asarray(whole[CELL : CELL + rows, CELL : CELL + columns], np.float32)

    return enlarged(np.ascontiguousarray(found[:, 0])), enlarged(np.ascontiguousarray(found[:, 1]))


def planar_maps(matrix: Floats, shape: tuple[int, int]) -> Maps:
    """A plane transform on every sample: sums of a row's and a column's share, over the depth where it is not 1."""
    across, down = np.arange(shape[1]), np.arange(shape[0])
    matrix = matrix / matrix[2, 2]

    def sums(row: Floats) -> NDArray[np.float32]:
        ends = (row[1] * down + row[2]).astype(np.float32), (row[0] * across).astype(np.float32)
        return np.asarray(np.add.outer(*ends))

    x, y = sums(matrix[0]), sums(matrix[1])
    if np.abs(matrix[2, :2]).max() > 1e-12:
        depth = sums(matrix[2])
        x /= depth
        y /= depth
    return x, y
