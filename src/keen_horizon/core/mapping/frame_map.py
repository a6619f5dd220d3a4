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
from functools import cached_property
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


@dataclass(frozen=True)
class PlaneMap:
    """Where each sample of a plane of `shape` (rows, columns) comes from, as a whole or some rows at a time.

    What is worked out, used and forgotten by rows stays in a processor's cache. `worked_out` gives maps of so many rows
    from the first one named.
    """

    shape: tuple[int, int]
    worked_out: Callable[[int, int], Maps]

    @cached_property
    def whole(self) -> Maps:
        """Maps of all rows."""
        return self.worked_out(0, self.shape[0])

    def rows(self, first: int, count: int) -> Maps:
        """Maps of `count` rows from the `first` on; parts of the whole where that is known."""
        known = "whole" in self.__dict__
        return _part(self.whole, first, count) if known else self.worked_out(first, count)

    @staticmethod
    def of(maps: Maps) -> PlaneMap:
        """What is worked out already."""
        return PlaneMap(maps[0].shape, lambda first, count: _part(maps, first, count))


def _part(maps: Maps, first: int, count: int) -> Maps:
    x, y = maps
    return x[first : first + count], y[first : first + count]


def meshed_map(places: Callable[[Floats], Floats], shape: tuple[int, int]) -> PlaneMap:
    """A smooth map, evaluated in the middle of cells of CELL samples a side and bilinear between them.

    Cell middles are where enlarging a picture puts its samples, so enlarging the mesh is exact there.
    """
    down, across = ((np.arange(-1, -(-side // CELL) + 1) + 0.5) * CELL - 0.5 for side in shape)
    x, y = np.meshgrid(across, down)
    found = places(np.stack([x.ravel(), y.ravel()], -1)).astype(np.float32)
    meshes = [np.ascontiguousarray(found[:, axis]).reshape(len(down), len(across)) for axis in (0, 1)]

    def rows(first: int, count: int) -> Maps:
        above, beside = first // CELL, (first + count - 1) // CELL + 2  # a cell further on, either way
        start = CELL + first % CELL

        def enlarged(mesh: NDArray[np.float32]) -> NDArray[np.float32]:
            part = mesh[above : beside + 1]
            size = (part.shape[1] * CELL, part.shape[0] * CELL)
            laid_out = cv2.resize(part, size, interpolation=cv2.INTER_LINEAR)
            return np.asarray(laid_out[start : start + count, CELL : CELL + shape[1]], np.float32)

        return enlarged(meshes[0]), enlarged(meshes[1])

    return PlaneMap(shape, rows)


def planar_map(matrix: Floats, shape: tuple[int, int]) -> PlaneMap:
    """A plane transform on every sample: sums of a row's and a column's share, over the depth where it is not 1."""
    matrix = matrix / matrix[2, 2]
    deep = np.abs(matrix[2, :2]).max() > 1e-12
    across = np.multiply.outer(matrix[:, 0], np.arange(shape[1])).astype(np.float32)

    def rows(first: int, count: int) -> Maps:
        shares = np.multiply.outer(matrix[:, 1], np.arange(first, first + count)) + matrix[:, 2:]
        x, y, *depth = (np.add.outer(shares[i].astype(np.float32), across[i]) for i in range(2 + deep))
        for part in depth:
            x /= part
            y /= part
        return x, y

    return PlaneMap(shape, rows)
