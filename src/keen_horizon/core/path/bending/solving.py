"""The mesh of a path: what would lay every frame to rest, held to what a mesh may do."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np

from keen_horizon.core.geometry.mesh import Grid, MeshOverTime
from keen_horizon.core.geometry.similarity import Floats, as_complex
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.motion.belief.areas import IgnoredMasks
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.bending.bent import Bending
from keen_horizon.core.path.bending.chart import Chart, onward
from keen_horizon.core.path.bending.holding import held, shortened
from keen_horizon.core.path.bending.parallax import Parallax, parallax
from keen_horizon.core.path.bending.profiles import as_controls, pulls_of, wanted
from keen_horizon.core.path.bending.room import border_room, with_room
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.treatment.believing import Area
from keen_horizon.core.treatment.edges import Edges
from keen_horizon.core.treatment.motion import Motion

AROUND = 1.5  # cells that a control reaches to either side


def bent(path: CameraPath, measurement: Measurement, motion: Motion, edges: Edges) -> CameraPath:
    """A path with its mesh and room for it, where the motion asks for one; `measurement` is what it was solved of."""
    if not motion.bends or len(path) < 2:
        return path
    unheld = Unheld.of(path, measurement, motion)
    roomy = with_room(path, unheld.outwards(motion.bend_limit_px), edges)
    return replace(roomy, bending=unheld.within(motion.bend_limit_px, border_room(roomy, measurement.rate)))


@dataclass(frozen=True, eq=False)
class Unheld:
    """What would lay a path's pictures to rest, were there no limit: controls (N, rows, columns, 2), px; and how far
    they may be moved at all (N, rows, columns).
    """

    first: int
    seen: Parallax
    controls: Floats
    free: Floats

    @staticmethod
    def of(path: CameraPath, measurement: Measurement, motion: Motion) -> Unheld:
        """That of a path; `measurement` is what it was solved of."""
        seen = parallax(measurement, onward(path))
        controls = as_controls(wanted(seen, Chart.of(path), pulls_of(measurement, motion)))
        free = _reach(seen.grid, measurement, motion.ignore, path.stage.dead if path.stage else None)
        return Unheld(path.first, seen, controls, free)

    @property
    def furthest(self) -> Floats:
        """How far anything within the picture would be moved on every frame (N,), px."""
        inside = self.controls[:, 1:-1, 1:-1]
        return np.asarray(np.hypot(inside[..., 0], inside[..., 1]).max((1, 2)))

    def outwards(self, limit: float) -> Floats:
        """How far a mesh within a limit would draw in picture at the left, top, right and bottom (N, 4), px."""
        short = shortened(self.controls, np.minimum(self.free, limit))
        x, y = short[..., 0], short[..., 1]
        sides = -x[:, :, :2], -y[:, :2], x[:, :, -2:], y[:, -2:]
        return np.stack([np.maximum(side.max((1, 2)), 0.0) for side in sides], -1)

    def within(self, limit: float, room: Floats) -> Bending:
        """The mesh within a limit, px, with `room` (N, 4) at the sides."""
        kept = held(self.controls, self.seen.grid, np.minimum(self.free, limit), room)
        mesh = MeshOverTime(self.first, self.seen.grid.size, kept.astype(np.float32))
        apart, left = _apart(self.seen, self.controls, kept)
        return Bending(mesh, apart, left)


def _reach(grid: Grid, measurement: Measurement, areas: tuple[Area, ...], dead: DeadEdge | None) -> Floats:
    """How far controls may move (N, rows, columns), px: not at all where something is ignored within their reach, and
    before a dead edge no further than to it.
    """
    reach = np.full((len(measurement), *grid.shape), np.inf)
    if dead is not None:
        half, size = grid.size.half_diagonal, AROUND * float(np.hypot(*grid.cell))
        room = dead.room((as_complex(grid.places.reshape(-1, 2)) - grid.size.centre) / half) * half
        reach[:] = np.maximum(0.0, room - size).reshape(grid.shape)
    if areas and len(measurement.evidence.identity):  # earlier formats do not tell what areas hold
        masks = IgnoredMasks(measurement, areas)
        for place in range(len(measurement)):
            reach[place][_touched(masks.on(place).astype(np.uint8), grid)] = 0.0
    return reach


def _touched(ignored: np.ndarray, grid: Grid) -> np.ndarray:
    """Which controls (rows, columns) reach into what is ignored, a mask of the whole picture."""
    scale = np.array(ignored.shape[::-1]) / (grid.size.width, grid.size.height)
    width, height = (2 * np.ceil(AROUND * grid.cell * scale) + 1).astype(int)
    near = cv2.dilate(ignored, np.ones((height, width), np.uint8))
    across, down = np.moveaxis(((grid.places + 0.5) * scale).astype(int), -1, 0)
    rows, columns = ignored.shape
    return np.asarray(near[np.clip(down, 0, rows - 1), np.clip(across, 0, columns - 1)] > 0)


def _apart(seen: Parallax, wanted_of: Floats, given: Floats) -> tuple[Floats, Floats]:
    """By how much points move apart unsteadily at every pair (N - 1), RMS px, unbent and bent.

    Unsteady is what is seen less what the field would leave, were there no limit.
    """
    before, after = np.zeros(len(seen)), np.zeros(len(seen))
    ends = np.searchsorted(seen.pair, np.arange(len(seen) + 1))
    for pair in range(len(seen)):
        rows = slice(int(ends[pair]), int(ends[pair + 1]))
        points, moved = seen.points[rows], seen.moved[rows]
        if not len(points):
            continue
        onto, at = seen.grid.at, (pair, pair + 1)
        free, kept = (onto(of[at[1]], moved) - onto(of[at[0]], points) for of in (wanted_of, given))
        smooth = onto(seen.controls[pair], moved) - free
        unsteady = seen.apart[rows] - smooth
        before[pair] = np.sqrt((unsteady**2).sum(1).mean())
        after[pair] = np.sqrt(((unsteady - kept) ** 2).sum(1).mean())
    return before, after
