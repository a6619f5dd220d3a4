"""Steadying a shot by moving its picture: similarities, and a small tilt, in which containment is linear.

First the free path is solved; if its zoom is within the limit, that is the answer and costs no more than it needs.
Otherwise the window is fixed at the limit and the program solved with containment. What frames lend each other counts
as picture where that is wanted.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.geometry.tilt import tilt_matrices, tilted
from keen_horizon.core.lens.dead_border import Cuts, dead_cuts
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.borrowing import Borrowing, borrowing, lending_offsets
from keen_horizon.core.path.breathing import window_shrink
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.lending import LendingShot
from keen_horizon.core.path.levelling import level_and_rest, level_poses
from keen_horizon.core.path.pinned import pin_freedom, pinned_poses
from keen_horizon.core.path.program import Limits, corrections
from keen_horizon.core.path.seen_through import Hiding, room_for_rows, window_about
from keen_horizon.core.path.tilting import MOST, MOST_STRAIGHTENED, tilt_corrections
from keen_horizon.core.path.trajectory import Trajectory
from keen_horizon.core.path.window import centred_corners, window_zoom, zoom_within
from keen_horizon.core.path.wish import wish_for
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

SPARE = 1.002  # of a window that hides a dead edge: what straight cuts lose of a circle, and room to solve in


@dataclass(frozen=True)
class Glass:
    """What a path is shown through: its `stage`; with rows or a dead edge, the region that frames show and by how much
    a window must be shrunk (N,) for the rows' sake on frames from clip number `first`.

    Where a limit binds, a window must stay within `cuts`, and what `hides` the dead edge beyond them is known.
    """

    first: int
    stage: OpticsStage | None
    region: SeenRegion | None
    room: Floats
    cuts: Cuts | None
    hides: Hiding

    @property
    def dead(self) -> bool:
        """Whether a dead edge ends what windows may show."""
        return self.region is not None and self.region.dead is not None

    @staticmethod
    def of(stage: OpticsStage | None, measurement: Measurement, hides: Hiding) -> Glass:
        """That of a whole range."""
        first, count = measurement.first, len(measurement)
        if stage is None or (stage.rows is None and stage.dead is None):
            return Glass(first, stage, None, np.ones(count), None, hides)
        region = SeenRegion.of(stage, measurement.size, first, count)
        cuts = dead_cuts(list(stage.stages), hides.edge) if region.dead and hides.edge else None
        return Glass(first, stage, region, room_for_rows(stage, count), cuts, hides)

    def part_of(self, shot: Measurement) -> slice:
        """Where a shot's frames lie among those of the range."""
        return slice(shot.first - self.first, shot.first - self.first + len(shot))


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
        self.rays, self.glass, self.part = rays, glass, glass.part_of(shot)
        self.room, self.rest = glass.room[self.part], glass.hides.middle
        self.motion, self.edges = treatment.motion, treatment.edges
        self.size, self.first, self.rate = shot.size, shot.first, shot.rate
        self.frames = shot.first + np.arange(len(shot))
        self.tilts = shot.tilts
        self.lenders = shot.tilted_poses.about(shot.size.centre)
        self.seen = self.lenders.matrices() @ tilt_matrices(shot.tilts, shot.size)
        freedom = _usable_freedom(treatment, len(shot))
        self.tilting = "tilt" in freedom
        self.measured = self.lenders if self.tilting else shot.poses.about(shot.size.centre)
        self.poses, upright = self.measured, None
        if self.motion.intent == "pin" and freedom:
            self.poses = pinned_poses(pins, freedom, self.first, self.measured, self.size)
        elif self.motion.glides_level and freedom:
            self.poses, upright = level_and_rest(shot, self.measured, self.motion.level.lines)
        elif self.motion.intent == "level" and freedom:
            self.poses = level_poses(shot, self.motion.level.lines)
        self.moves = bool(freedom)
        self.offsets = lending_offsets(self.edges.borrow.reach_s, self.rate)
        if self.moves:
            self.wish = wish_for(self.poses, self.motion, freedom, self.size, self.first, self.rate, upright=upright)
            self.free = corrections(self.poses, self.wish, self.size, None)
            self.most_tilt = MOST if not treatment.optics.active else MOST_STRAIGHTENED
            self.free_tilt = self._tilt(self.most_tilt)
            self.free_way = (self.free, self.free_tilt)
            self.middle = self._roomiest(self.free_way)
            self.demand = np.minimum(self._demand(self.free_way, self.middle), 99.0)

    def forget(self) -> None:
        """Nothing here depends on what was asked for before."""

    def path(self, limit: float) -> CameraPath:
        count = len(self.measured)
        if not self.moves:
            still = (Similarities.identity(count), np.zeros(count, np.complex128))
            middle = 0j if self.edges.gaps_wanted else self.rest
            wanted = np.maximum(1.0, self._demand(still, middle)) if self.glass.dead else self.room
            return self.made(still, self._shrink_unmoved(wanted, limit), wanted, False, middle=middle)
        wanted = np.asarray(self.demand / self.sizes(self.free_way))
        if self.edges.way == "borrow":
            return self.lent(limit, wanted)
        if self.edges.way == "leave":
            return self.made(self.free_way, np.ones(count), wanted, False)
        shrink = window_shrink(self.demand, self.edges, self.rate)
        if float((shrink / self.sizes(self.free_way)).max()) <= limit:
            return self.made(self.free_way, shrink, wanted, False, middle=self.middle)
        base = self.base(limit)
        bound = self.bound_way(base, base / limit)
        most = max(1.0, limit * float(self.sizes(bound).min()))
        shrink = np.minimum(window_shrink(self.own_demand(bound), self.edges, self.rate), most)
        return self.made(bound, shrink, wanted, True, middle=self.rest)

    def _shrink_unmoved(self, wanted: Floats, limit: float) -> Floats:
        """What the window is shrunk by (N,) where nothing is put right but rows and dead edges."""
        if self.edges.gaps_wanted or wanted.max() <= 1:
            return np.ones(len(wanted))
        return np.minimum(window_shrink(wanted, self.edges, self.rate), limit)

    def base(self, limit: float) -> float:
        """How far the window is shrunk under a limit: less than it when frames may be enlarged each by itself."""
        smallest = min(1.0, float(np.abs(self.free.z).min())) if "size" in self.wish.freedom else 1.0
        return max(float(self.room.max()), min(limit, self._least), limit * max(0.9, smallest))

    @cached_property
    def _least(self) -> float:
        """What the window must be shrunk by for the dead edge's sake, frames standing as they are."""
        if self.glass.cuts is None:
            return 1.0
        within = zoom_within(self.glass.cuts.of(self.part), centred_corners(self.size), self.rest)
        return max(self.glass.hides.zoom, within) * float(self.room.max()) * SPARE

    def sizes(self, way: Moves) -> Floats:
        """How large frames lie in the steadied ones (N,)."""
        return np.asarray(np.abs(way[0].z))

    def own_demand(self, way: Moves) -> Floats:
        """The smallest Z (N,) whose window, where a limit binds, needs nothing that is lent."""
        return self._demand(way, self.rest)

    def borrowing(self, way: Moves, own: Floats) -> Borrowing:
        """What frames lend each other along a way; where their own pictures end, intervals tell as well."""
        cuts = self.glass.region.cuts.of(self.part) if self.glass.region and self.glass.dead else None
        correction = _about(way[0], self.rest)
        return borrowing(self.lenders, correction, way[1], self.size, self.offsets, self.room, self.rays, cuts)

    def bound_way(self, inner: float, least_size: float) -> Moves:
        """Correction and tilt that keep a window shrunk by `inner` inside the source. Raises SolveError."""
        if self.glass.cuts is not None and inner < self._least:
            return Similarities.identity(len(self.measured)), np.zeros(len(self.measured), np.complex128)
        tilt = self._tilt((inner - self.glass.hides.zoom) / 4)
        corners = centred_corners(self.size) / inner + self.rest
        if self.tilting:
            corners = tilted(tilt, corners, self.size)
        cuts = self.glass.cuts and self.glass.cuts.of(self.part)
        return corrections(self.poses, self.wish, self.size, Limits(corners, least_size, self.room, cuts)), tilt

    def _demand(self, way: Moves, middle: complex) -> Floats:
        """The smallest Z (N,) of windows about a place, which need nothing that is lent."""
        framed = window_zoom(_about(way[0], middle), self.size, way[1], self.room)
        if not self.glass.dead:
            return framed
        assert self.glass.region is not None
        return np.maximum(framed, self.glass.region.demand(self._planes(way), self.frames, window_about(middle)))

    def _roomiest(self, way: Moves) -> complex:
        """Where the window's middle lies best along a way: where it is, but for dead edges."""
        if not self.glass.dead or self.edges.way == "borrow":
            return self.rest
        assert self.glass.region is not None
        return self.glass.region.roomiest(self._planes(way), self.frames, framed=True)

    def _planes(self, way: Moves) -> Floats:
        """A way's homographies (N, 3, 3), px from the middle."""
        return way[0].matrices() @ tilt_matrices(way[1], self.size)

    def _tilt(self, room: float) -> Complex:
        if not self.tilting:
            return np.zeros(len(self.measured), np.complex128)
        room = min(room, self.most_tilt)
        return tilt_corrections(self.tilts, self.measured.z, self.wish, self.size, room)

    def made(
        self,
        way: Moves,
        shrink: Floats,
        wanted: Floats,
        limited: bool,
        borrowed: Borrowing | None = None,
        middle: complex = 0j,
    ) -> CameraPath:
        """The path of a way, with its window."""
        correction, tilt = way
        shown = self.tilts if self.tilting else np.zeros(len(self.tilts), np.complex128)
        corrected = self._planes(way)
        growth = np.zeros(len(shrink))
        return CameraPath(
            size=self.size, first=self.first, shrink=shrink, wanted_zoom=wanted, limited=limited, borrowed=borrowed,
            middle=middle,
            measured=Trajectory(matrices=self.seen, poses=self.measured, tilts=self.tilts, growth=growth),
            steadied=Trajectory(
                matrices=self.seen @ corrected, poses=self.measured @ correction,
                tilts=shown + tilt if tilt.any() else self.tilts, growth=growth,
            ),
            region=self.glass.region, stage=self.glass.stage,
        )  # fmt: skip


def _about(correction: Similarities, middle: complex) -> Similarities:
    """Corrections (N,) of windows about a place, as those of windows about the frame's middle."""
    return Similarities(correction.z, correction.t + correction.z * middle)


def _usable_freedom(treatment: Treatment, frames: int) -> tuple[str, ...]:
    """What the intent can correct of what is allowed; nothing where there is no intent or nothing to go by."""
    motion = treatment.motion
    freedom: tuple[str, ...] = motion.freedom
    if motion.intent is None or frames < 2:
        return ()
    if motion.intent == "pin":
        return pin_freedom(freedom, len(motion.pin.points)) if motion.pin.points else ()
    if motion.intent == "level":
        wanted = ("turn", "shift", "size") if motion.level_glide else ("turn",)
        return tuple(name for name in freedom if name in wanted)
    return freedom
