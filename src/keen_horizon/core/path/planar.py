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
from keen_horizon.core.geometry.tilt import tilted
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.borrowing import Borrowing, borrowing, lending_offsets
from keen_horizon.core.path.breathing import SAFETY, window_shrink
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.levelling import level_poses
from keen_horizon.core.path.pinned import pin_freedom, pinned_poses
from keen_horizon.core.path.program import Limits, corrections
from keen_horizon.core.path.seen_through import room_for_rows
from keen_horizon.core.path.tilting import MOST, MOST_STRAIGHTENED, tilt_corrections
from keen_horizon.core.path.window import centred_corners, window_zoom
from keen_horizon.core.path.wish import wish_for
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

ROOMS = 6
FAR = 1e9


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


class PlanarShot:
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
        freedom = _usable_freedom(treatment, len(shot))
        self.tilting = "tilt" in freedom
        self.measured = self.lenders if self.tilting else shot.poses.about(shot.size.centre)
        self.poses = self.measured
        if self.motion.intent == "pin" and freedom:
            self.poses = pinned_poses(pins, freedom, self.first, self.measured, self.size)
        elif self.motion.intent == "level" and freedom:
            self.poses = level_poses(shot, self.motion.level.lines)
        self.moves = bool(freedom)
        self._tried: dict[float, CameraPath] = {}
        self.offsets = lending_offsets(self.edges.borrow.reach_s, self.rate)
        if self.moves:
            self.wish = wish_for(self.poses, self.motion, freedom, self.size, self.first, self.rate)
            self.free = corrections(self.poses, self.wish, self.size, None)
            self.most_tilt = MOST if not treatment.optics.active else MOST_STRAIGHTENED
            self.free_tilt = self._tilt(self.most_tilt)
            self.demand = np.minimum(window_zoom(self.free, self.size, self.free_tilt, self.room), 99.0)

    def forget(self) -> None:
        """Nothing here depends on what was asked for before."""

    @cached_property
    def free_lent(self) -> Borrowing:
        """What frames lend each other along the free path."""
        return self._borrowing(self.free, self.free_tilt)

    def path(self, limit: float) -> CameraPath:
        count = len(self.measured)
        none = np.zeros(count, np.complex128)
        if not self.moves:
            return self._made(Similarities.identity(count), none, self._shrink_for_rows(limit), self.room, False)
        wanted = np.asarray(self.demand / np.abs(self.free.z))
        if self.edges.way == "borrow":
            return self._lent(limit, wanted)
        if self.edges.way == "leave":
            return self._made(self.free, self.free_tilt, np.ones(count), wanted, False)
        shrink = window_shrink(self.demand, self.edges, self.rate)
        if float((shrink / np.abs(self.free.z)).max()) <= limit:
            return self._made(self.free, self.free_tilt, shrink, wanted, False)
        base = self._base(limit)
        bound, tilt = self._bound(base, base / limit)
        most = max(1.0, limit * float(np.abs(bound.z).min()))
        demand = window_zoom(bound, self.size, tilt, self.room)
        shrink = np.minimum(window_shrink(demand, self.edges, self.rate), most)
        return self._made(bound, tilt, shrink, wanted, True)

    def _shrink_for_rows(self, limit: float) -> Floats:
        """What the window is shrunk by (N,) where nothing but rows is put right."""
        if self.edges.gaps_wanted or self.room.max() <= 1:
            return np.ones(len(self.room))
        return np.minimum(window_shrink(self.room, self.edges, self.rate), limit)

    def _lent(self, limit: float, wanted: Floats) -> CameraPath:
        """The freest path whose window, with what the frames lend each other, needs no more than the limit."""
        count = len(self.measured)
        found = self.free_lent
        if self.edges.borrow.rest == "leave":
            return self._made(self.free, self.free_tilt, np.ones(count), wanted, False, found)
        shrink = float(found.demand().max()) * SAFETY
        if shrink / float(np.abs(self.free.z).min()) <= limit:
            return self._made(self.free, self.free_tilt, np.full(count, max(1.0, shrink)), wanted, False, found)
        return self._lent_within(limit, wanted)

    def _lent_within(self, limit: float, wanted: Floats) -> CameraPath:
        """The path with the most room of its own whose window, with what is lent, keeps the limit.

        Rooms are the same few for every limit, so a trade-off curve shows what a solve gives and solves each
        once. Halving between them finds a room that fits; where none does, the picture's own must do.
        """
        base = self._base(limit)
        rooms = np.linspace(1, float(self.demand.max()), ROOMS + 1)[1:]
        low, high = int(np.searchsorted(rooms, base)), len(rooms)
        best: CameraPath | None = None
        while low < high:
            middle = (low + high) // 2
            path = self._lent_at(float(rooms[middle]), wanted)
            if path.zoom.max() <= limit:
                best, low = path, middle + 1
            else:
                high = middle
        return best or self._lent_own(base, limit, wanted)

    def _lent_at(self, room: float, wanted: Floats) -> CameraPath:
        """The path whose own picture holds a window shrunk by `room`, shown as far as frames lend."""
        if room not in self._tried:
            bound, tilt = self._bound(room, self._base(FAR) / FAR)
            self._tried[room] = self._lent_made(bound, tilt, np.inf, wanted)
        return self._tried[room]

    def _lent_own(self, base: float, limit: float, wanted: Floats) -> CameraPath:
        """The path that needs nothing lent to keep the limit, shown with what is."""
        bound, tilt = self._bound(base, base / limit)
        return self._lent_made(bound, tilt, limit * float(np.abs(bound.z).min()), wanted)

    def _lent_made(self, bound: Similarities, tilt: Complex, most: float, wanted: Floats) -> CameraPath:
        found = self._borrowing(bound, tilt)
        own = float(window_zoom(bound, self.size, tilt, self.room).max())
        shrink = max(1.0, min(float(found.demand().max()), own) * SAFETY)
        if shrink < most * SAFETY**2:
            shrink = max(1.0, min(shrink, most))
        return self._made(bound, tilt, np.full(len(wanted), shrink), wanted, True, found)

    def _borrowing(self, correction: Similarities, tilt: Complex) -> Borrowing:
        return borrowing(self.lenders, correction, tilt, self.size, self.offsets, self.room, self.rays)

    def _base(self, limit: float) -> float:
        """How far the window is shrunk under a limit: less than it when frames may be enlarged each by itself."""
        smallest = min(1.0, float(np.abs(self.free.z).min())) if "size" in self.wish.freedom else 1.0
        return max(float(self.room.max()), limit * max(0.9, smallest))

    def _bound(self, inner: float, least_size: float) -> tuple[Similarities, Complex]:
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

    def _made(
        self,
        correction: Similarities,
        tilt: Complex,
        shrink: Floats,
        wanted: Floats,
        limited: bool,
        borrowed: Borrowing | None = None,
    ) -> CameraPath:
        shown = self.tilts if self.tilting else np.zeros(len(self.tilts), np.complex128)
        return CameraPath(
            size=self.size, first=self.first, correction=correction, tilt=tilt, shrink=shrink, wanted_zoom=wanted,
            measured=self.measured, steadied=self.measured @ correction, lenders=self.lenders,
            measured_tilts=self.tilts, steadied_tilts=shown + tilt, limited=limited, borrowed=borrowed,
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
