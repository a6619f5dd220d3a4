"""Steadying a shot by moving its picture: similarities, and a small tilt, in which containment is linear.

First the free path is solved; if its zoom is within the limit, that is the answer and costs no more than it needs.
Otherwise the window is fixed at the limit and the program solved with containment. What frames lend each other counts
as picture where that is wanted.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.geometry.tilt import tilt_matrices, tilted
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.borrowing import Borrowing, borrowing, lending_offsets
from keen_horizon.core.path.breathing import window_shrink
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.lending import LendingShot
from keen_horizon.core.path.levelling import level_poses
from keen_horizon.core.path.pinned import pin_freedom, pinned_poses
from keen_horizon.core.path.program import Limits, corrections
from keen_horizon.core.path.seen_through import room_for_rows
from keen_horizon.core.path.tilting import MOST, MOST_STRAIGHTENED, tilt_corrections
from keen_horizon.core.path.trajectory import Trajectory
from keen_horizon.core.path.window import centred_corners, window_zoom
from keen_horizon.core.path.wish import wish_for
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Glass:
    """What a path is shown through: its `stage`; with rows, the region that frames show and by how much a window must
    be shrunk (N,) for the rows' sake on frames from clip number `first`.
    """

    first: int
    stage: OpticsStage | None
    region: SeenRegion | None
    room: Floats

    @staticmethod
    def of(stage: OpticsStage | None, measurement: Measurement) -> Glass:
        """That of a whole range."""
        first, count = measurement.first, len(measurement)
        if stage is None or stage.rows is None:
            return Glass(first, stage, None, np.ones(count))
        region = SeenRegion.of(stage, measurement.size, first, count)
        return Glass(first, stage, region, room_for_rows(stage, count))

    def room_of(self, shot: Measurement) -> Floats:
        """The room of a shot's frames."""
        return self.room[shot.first - self.first :][: len(shot)]


Moves = tuple[Similarities, Complex]  # corrections and tilts (N,)


class PlanarShot(LendingShot[Moves]):
    """A shot's path before a zoom limit is chosen: what does not depend on it is solved once."""

    def __init__(
        self,
        shot: Measurement,
        treatment: Treatment,
        pins: tuple[PinTrack, ...],
        rays: int,
        glass: Glass,
    ) -> None:
        self.rays, self.glass, self.room = rays, glass, glass.room_of(shot)
        self.motion, self.edges = treatment.motion, treatment.edges
        self.size, self.first, self.rate = shot.size, shot.first, shot.rate
        self.tilts = shot.tilts
        self.lenders = shot.tilted_poses.about(shot.size.centre)
        self.seen = self.lenders.matrices() @ tilt_matrices(shot.tilts, shot.size)
        freedom = _usable_freedom(treatment, len(shot))
        self.tilting = "tilt" in freedom
        self.measured = self.lenders if self.tilting else shot.poses.about(shot.size.centre)
        self.poses = self.measured
        if self.motion.intent == "pin" and freedom:
            self.poses = pinned_poses(pins, freedom, self.first, self.measured, self.size)
        elif self.motion.intent == "level" and freedom:
            self.poses = level_poses(shot, self.motion.level.lines)
        self.moves = bool(freedom)
        self.offsets = lending_offsets(self.edges.borrow.reach_s, self.rate)
        if self.moves:
            self.wish = wish_for(self.poses, self.motion, freedom, self.size, self.first, self.rate)
            self.free = corrections(self.poses, self.wish, self.size, None)
            self.most_tilt = MOST if not treatment.optics.active else MOST_STRAIGHTENED
            self.free_tilt = self._tilt(self.most_tilt)
            self.free_way = (self.free, self.free_tilt)
            self.demand = np.minimum(window_zoom(self.free, self.size, self.free_tilt, self.room), 99.0)

    def forget(self) -> None:
        """Nothing here depends on what was asked for before."""

    def path(self, limit: float) -> CameraPath:
        count = len(self.measured)
        if not self.moves:
            still = (Similarities.identity(count), np.zeros(count, np.complex128))
            return self.made(still, self._shrink_for_rows(limit), self.room, False)
        wanted = np.asarray(self.demand / self.sizes(self.free_way))
        if self.edges.way == "borrow":
            return self.lent(limit, wanted)
        if self.edges.way == "leave":
            return self.made(self.free_way, np.ones(count), wanted, False)
        shrink = window_shrink(self.demand, self.edges, self.rate)
        if float((shrink / self.sizes(self.free_way)).max()) <= limit:
            return self.made(self.free_way, shrink, wanted, False)
        base = self.base(limit)
        bound = self.bound_way(base, base / limit)
        most = max(1.0, limit * float(self.sizes(bound).min()))
        shrink = np.minimum(window_shrink(self.own_demand(bound), self.edges, self.rate), most)
        return self.made(bound, shrink, wanted, True)

    def _shrink_for_rows(self, limit: float) -> Floats:
        """What the window is shrunk by (N,) where nothing but rows is put right."""
        if self.edges.gaps_wanted or self.room.max() <= 1:
            return np.ones(len(self.room))
        return np.minimum(window_shrink(self.room, self.edges, self.rate), limit)

    def base(self, limit: float) -> float:
        """How far the window is shrunk under a limit: less than it when frames may be enlarged each by itself."""
        smallest = min(1.0, float(np.abs(self.free.z).min())) if "size" in self.wish.freedom else 1.0
        return max(float(self.room.max()), limit * max(0.9, smallest))

    def sizes(self, way: Moves) -> Floats:
        """How large frames lie in the steadied ones (N,)."""
        return np.asarray(np.abs(way[0].z))

    def own_demand(self, way: Moves) -> Floats:
        """The smallest Z (N,) whose window needs nothing that is lent."""
        return window_zoom(way[0], self.size, way[1], self.room)

    def borrowing(self, way: Moves) -> Borrowing:
        """What frames lend each other along a way."""
        return borrowing(self.lenders, *way, self.size, self.offsets, self.room, self.rays)

    def bound_way(self, inner: float, least_size: float) -> Moves:
        """Correction and tilt that keep a window shrunk by `inner` inside the source. Raises SolveError."""
        tilt = self._tilt((inner - 1) / 4)
        corners = centred_corners(self.size) / inner
        if self.tilting:
            corners = tilted(tilt, corners, self.size)
        return corrections(self.poses, self.wish, self.size, Limits(corners, least_size, self.room)), tilt

    def _tilt(self, room: float) -> Complex:
        if not self.tilting:
            return np.zeros(len(self.measured), np.complex128)
        room = min(room, self.most_tilt)
        return tilt_corrections(self.tilts, self.measured.z, self.wish, self.size, room)

    def made(
        self, way: Moves, shrink: Floats, wanted: Floats, limited: bool, borrowed: Borrowing | None = None
    ) -> CameraPath:
        """The path of a way, with its window."""
        correction, tilt = way
        shown = self.tilts if self.tilting else np.zeros(len(self.tilts), np.complex128)
        corrected = correction.matrices() @ tilt_matrices(tilt, self.size)
        growth = np.zeros(len(shrink))
        return CameraPath(
            size=self.size, first=self.first, shrink=shrink, wanted_zoom=wanted, limited=limited, borrowed=borrowed,
            measured=Trajectory(matrices=self.seen, poses=self.measured, tilts=self.tilts, growth=growth),
            steadied=Trajectory(
                matrices=self.seen @ corrected, poses=self.measured @ correction,
                tilts=shown + tilt if tilt.any() else self.tilts, growth=growth,
            ),
            region=self.glass.region, stage=self.glass.stage,
        )  # fmt: skip


def _usable_freedom(treatment: Treatment, frames: int) -> tuple[str, ...]:
    """What the intent can correct of what is allowed; nothing where there is no intent or nothing to go by."""
    motion = treatment.motion
    freedom: tuple[str, ...] = motion.freedom
    if motion.intent is None or frames < 2:
        return ()
    if motion.intent == "pin":
        return pin_freedom(freedom, len(motion.pin.points)) if motion.pin.points else ()
    if motion.intent == "level":
        return tuple(name for name in freedom if name == "turn")
    return freedom
