"""The frame map of a plane's or a turned camera's path.

It is a composition of stages, each a function on points for a frame number, applied in the order in
which light is undone: output window and camera path first, the lens last. A stage that is a plane
transform says so with its matrix; as long as all are, the whole map is one matrix per frame, which the
browser gets as it is and the renderer lays out densely.

Points are (N, 2) in display pixels (upright, square) of the output and of the source.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.mesh import MeshOverTime
from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.mapping.frame_map import Maps, PlaneGrid, PlaneMap, meshed_map, planar_map
from keen_horizon.core.path.camera_path import CameraPath, recentred

Floats = NDArray[np.float64]


class Stage(Protocol):
    """One step of the map, from points nearer the output to points nearer the source."""

    def points(self, frame: int, points: Floats) -> Floats:
        """Map points (N, 2) for a frame number of the clip."""

    def matrix(self, frame: int) -> Floats | None:
        """The same as a matrix (3, 3), or None when it is not a homography."""


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
    """The optics behind a camera turned by `homographies` (N, 3, 3), px from the middle of the flat picture, of frames
    from clip number `first`: after the projection of what is delivered.
    """

    first: int
    homographies: Floats
    optics: OpticsStage

    def points(self, frame: int, points: Floats) -> Floats:
        """Delivered points (N, 2) of a frame in the source."""
        return self._at(frame).points(points)

    def matrix(self, frame: int) -> Floats | None:
        """None, as a rule: a projection is no homography."""
        return self._at(frame).matrix

    def _at(self, frame: int) -> LensStage:
        return self.optics.at(frame).turned(self.homographies[frame - self.first])


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
class StagedMap:
    """A composition of stages between frames of display size `size`; `dead` is where the source's picture ends."""

    size: Size
    stages: tuple[Stage, ...]
    dead: DeadEdge | None = None

    def places(self, frame: int, points: Floats) -> Floats:
        """Where points (N, 2) of the output frame come from."""
        for stage in self.stages:
            points = stage.points(frame, points)
        return points

    def matrix(self, frame: int) -> Floats | None:
        """The whole map as one matrix (3, 3), or None when a stage is not a homography."""
        whole = np.eye(3)
        for stage in self.stages:
            step = stage.matrix(frame)
            if step is None:
                return None
            whole = step @ whole
        return whole

    def plane_maps(self, frame: int, target: PlaneGrid, source: PlaneGrid) -> Maps:
        """Where each sample of the target plane comes from in the source plane."""
        return self.plane_map(frame, target, source).whole

    def plane_map(self, frame: int, target: PlaneGrid, source: PlaneGrid) -> PlaneMap:
        """The same, to be laid out as it is needed."""
        plane_from_display = np.asarray(np.linalg.inv(source.display_from_plane), np.float64)
        matrix = self.matrix(frame)
        if matrix is not None:
            return planar_map(plane_from_display @ matrix @ target.display_from_plane, target.shape)

        def places(samples: Floats) -> Floats:
            found = self.places(frame, transform(target.display_from_plane, samples))
            return transform(plane_from_display, found)

        return meshed_map(places, target.shape)


def frame_map(path: CameraPath) -> StagedMap:
    """The map of a camera path, and of the lens and the rows that it was solved behind."""
    return _composed(path, path.homographies, 0)


def lending_map(path: CameraPath, offset: int) -> StagedMap:
    """The same map with the camera of the frame `offset` away: from the output of a frame into that one's source."""
    return _composed(path, path.lent_homographies(offset), offset)


def _composed(path: CameraPath, homographies: Floats, offset: int) -> StagedMap:
    """The window, the projection of what is delivered, the turn of the camera, and then what lies before the source
    of the frame `offset` away: the lens, and the mesh.
    """
    stage = path.stage and path.stage.shifted(offset)
    dead = None if stage is None else stage.dead
    mesh = () if path.bending is None else (BendStage(path.bending.mesh, offset),)
    if path.projected:
        assert stage is not None
        window = PlanarStage(path.first, recentred(path.windows(), path.size))
        return StagedMap(path.size, (window, TurnedStage(path.first, homographies, stage), *mesh), dead)
    planar = PlanarStage(path.first, recentred(homographies @ path.windows(), path.size))
    lens = () if stage is None else (stage,)
    return StagedMap(path.size, (planar, *lens, *mesh), dead)
