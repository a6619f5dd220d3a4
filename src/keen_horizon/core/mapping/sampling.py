"""The sampling map: for points of the output frame, the points of the source frame.

It is a composition of stages, each a function on points for a frame number, applied in the order in
which light is undone: output window and camera path first, the lens last. A stage that is a plane
transform says so with its matrix; as long as all are, the whole map is one matrix per frame, which the
browser gets as it is and the renderer lays out densely.

Points are (N, 2) in display pixels (upright, square) of the output and of the source.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.mesh import MeshOverTime
from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.straightening import LensStage
from keen_horizon.core.media.chroma import chroma_place
from keen_horizon.core.path.camera_path import CameraPath, recentred

Floats = NDArray[np.float64]
CELL = 8

Maps = tuple[NDArray[np.float32], NDArray[np.float32]]


class Stage(Protocol):
    """One step of the map, from points nearer the output to points nearer the source."""

    def points(self, frame: int, points: Floats) -> Floats:
        """Map points (N, 2) for a frame number of the clip."""

    def matrix(self, frame: int) -> Floats | None:
        """The same as a matrix (3, 3), or None when it is not a plane transform."""


@dataclass(frozen=True)
class PlanarStage:
    """The camera path's correction: `src_from_out` (N, 3, 3) for frames from clip number `first`."""

    first: int
    src_from_out: Floats

    def points(self, frame: int, points: Floats) -> Floats:
        """Map points by the frame's matrix."""
        return transform(self.matrix(frame), points)

    def matrix(self, frame: int) -> Floats:
        """The frame's matrix."""
        return np.asarray(self.src_from_out[frame - self.first])


@dataclass(frozen=True)
class TurnedStage:
    """The optics behind a camera turned by `planes` (N, 3, 3), px from the middle of the flat picture, of frames from
    clip number `first`: after the projection of what is delivered.
    """

    first: int
    planes: Floats
    optics: OpticsStage

    def points(self, frame: int, points: Floats) -> Floats:
        """Delivered points (N, 2) of a frame in the source."""
        return self._at(frame).points(points)

    def matrix(self, frame: int) -> Floats | None:
        """None, as a rule: a projection is no plane transform."""
        return self._at(frame).matrix

    def _at(self, frame: int) -> LensStage:
        return self.optics.at(frame).turned(self.planes[frame - self.first])


@dataclass(frozen=True)
class BendStage:
    """The mesh of the frame `offset` after the one asked for, on its source."""

    mesh: MeshOverTime
    offset: int = 0

    def points(self, frame: int, points: Floats) -> Floats:
        """Source points (N, 2) as they lie once the mesh moved them."""
        return self.mesh.moved(frame + self.offset, points)

    def matrix(self, frame: int) -> Floats | None:
        """None, unless the frame's mesh moves nothing."""
        return None if self.mesh.of(frame + self.offset).any() else np.eye(3)


@dataclass(frozen=True)
class SamplingMap:
    """A composition of stages between frames of display size `size`; `dead` is where the source's picture ends."""

    size: Size
    stages: tuple[Stage, ...]
    dead: DeadEdge | None = None

    def source_points(self, frame: int, points: Floats) -> Floats:
        """Where points (N, 2) of the output frame come from."""
        for stage in self.stages:
            points = stage.points(frame, points)
        return points

    def matrix(self, frame: int) -> Floats | None:
        """The whole map as one matrix (3, 3), or None when a stage is not a plane transform."""
        whole = np.eye(3)
        for stage in self.stages:
            step = stage.matrix(frame)
            if step is None:
                return None
            whole = step @ whole
        return whole


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


def dense_maps(sampling: SamplingMap, frame: int, target: PlaneGrid, source: PlaneGrid) -> Maps:
    """Where each sample of the target plane comes from in the source plane: x and y, float32."""
    plane_from_display = np.asarray(np.linalg.inv(source.display_from_plane), np.float64)
    rows, columns = target.shape
    matrix = sampling.matrix(frame)
    if matrix is not None:
        return _planar_maps(plane_from_display @ matrix @ target.display_from_plane, rows, columns)

    def places(points: Floats) -> Floats:
        source_points = sampling.source_points(frame, transform(target.display_from_plane, points))
        return transform(plane_from_display, source_points)

    return _meshed_maps(places, rows, columns)


def _meshed_maps(places: Callable[[Floats], Floats], rows: int, columns: int) -> Maps:
    """A smooth map, evaluated in the middle of cells of CELL samples a side and bilinear between them.

    Cell middles are where enlarging a picture puts its samples, so enlarging the mesh is exact there.
    """
    down, across = ((np.arange(-1, -(-side // CELL) + 1) + 0.5) * CELL - 0.5 for side in (rows, columns))
    x, y = np.meshgrid(across, down)
    found = places(np.stack([x.ravel(), y.ravel()], -1)).astype(np.float32)

    def enlarged(values: NDArray[np.float32]) -> NDArray[np.float32]:
        size = (len(across) * CELL, len(down) * CELL)
        whole = cv2.resize(values.reshape(len(down), len(across)), size, interpolation=cv2.INTER_LINEAR)
        return np.asarray(whole[CELL : CELL + rows, CELL : CELL + columns], np.float32)

    return enlarged(np.ascontiguousarray(found[:, 0])), enlarged(np.ascontiguousarray(found[:, 1]))


def _planar_maps(matrix: Floats, rows: int, columns: int) -> Maps:
    """A plane transform on every sample: sums of a row's and a column's share, over the depth where it is not 1."""
    across, down = np.arange(columns), np.arange(rows)
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


def sampling_map(path: CameraPath) -> SamplingMap:
    """The map of a camera path, and of the lens and the rows that it was solved behind."""
    return _composed(path, path.planes, 0)


def lending_map(path: CameraPath, offset: int) -> SamplingMap:
    """The same map with the camera of the frame `offset` away: from the output of a frame into that one's source."""
    return _composed(path, path.lent_planes(offset), offset)


def _composed(path: CameraPath, planes: Floats, offset: int) -> SamplingMap:
    """The window, the projection of what is delivered, the turn of the camera, and then what lies before the source
    of the frame `offset` away: the lens, and the mesh.
    """
    stage = path.stage and path.stage.shifted(offset)
    dead = None if stage is None else stage.dead
    mesh = () if path.bending is None else (BendStage(path.bending.mesh, offset),)
    if path.projected:
        assert stage is not None
        window = PlanarStage(path.first, recentred(path.windows(), path.size))
        return SamplingMap(path.size, (window, TurnedStage(path.first, planes, stage), *mesh), dead)
    planar = PlanarStage(path.first, recentred(planes @ path.windows(), path.size))
    lens = () if stage is None else (stage,)
    return SamplingMap(path.size, (planar, *lens, *mesh), dead)
