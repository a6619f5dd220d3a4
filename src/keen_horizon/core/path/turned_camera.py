"""Steadying by turning the camera behind a lens whose angles are known.

Each figure of its chart (see `turned_chart`) is smoothed like the rest of a path (see `solve`). A cylinder or
stereographic picture is projected from the steadied camera, and what other frames lend is seen in their own directions.

A zoom limit binds the window's border in the source's pixels. That is not linear in the angles, so it is solved by
a sequence of programs, each with the limits as they are near the last path; what then still reaches out is moved in
the shortest way, or drawn back to the measured path, frame by frame.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import SolveError
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.turns import CameraTurns, camera_turns
from keen_horizon.core.path.banded import BandedProgram, minimise, minimise_free
from keen_horizon.core.path.borrowing import Borrowing, borrowing_behind, lending_offsets
from keen_horizon.core.path.breathing import window_shrink
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.lending import LendingShot
from keen_horizon.core.path.program import difference_bands
from keen_horizon.core.path.seen_through import Hiding
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.trajectory import homographies_between
from keen_horizon.core.path.turned_chart import SPARE, TurnedChart
from keen_horizon.core.path.wish import pull_of
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

PROGRAMS = 3
SETTLED, FAR_OUT = 0.05, 0.1  # of what the limit leaves: mended without another program, and before the next
EXACT = 1e-7
PUSHES, PUSH_PX = 5, 0.02
CLOSER = 6  # steps by which a share that fits is closed in on


def turning_shots(
    measurement: Measurement, treatment: Treatment, stage: OpticsStage, within: OpticsStage, hides: Hiding, rays: int
) -> list[TurningShot]:
    """The shots of a measurement whose camera is turned behind a `stage` that tells its angles.

    What is shown is seen through `within`: the same, rows undone as far as there is room. Where a limit binds, windows
    stay within the edge that is hidden. What frames lend is looked for along `rays` rays.
    """
    turns = camera_turns(measurement, stage)
    region = SeenRegion.of(within, measurement.size, measurement.first, len(measurement), True)
    bound = region
    if hides.edge is not None and hides.edge != within.dead:
        eased = within.with_dead(hides.edge)
        bound = SeenRegion.of(eased, measurement.size, measurement.first, len(measurement), True)
    parts = [
        (shot, slice(shot.first - measurement.first, shot.last - measurement.first + 1)) for shot in shots(measurement)
    ]
    return [
        TurningShot(shot, turns.part(frames), treatment, within, region, bound, hides.middle, rays)
        for shot, frames in parts
    ]


class TurningShot(LendingShot[Floats]):
    """A shot's path before a zoom limit is chosen, in the figures of its chart."""

    def __init__(
        self,
        shot: Measurement,
        turns: CameraTurns,
        treatment: Treatment,
        within: OpticsStage,
        region: SeenRegion,
        bound: SeenRegion,
        rest: complex,
        rays: int,
    ) -> None:
        self.within, self.rest, self.rays = within, rest, rays
        self.size, self.first, self.rate = shot.size, shot.first, shot.rate
        self.edges, self.region = treatment.edges, region
        self.columns = np.arange(4 if "size" in treatment.motion.freedom else 3)
        self.chart = TurnedChart(
            turns, shot.size, shot.first, columns=self.columns, region=region, bound=bound, rest=rest
        )
        self.measured = self.chart.measured
        self.pull = pull_of(treatment.motion, shot.first, len(shot), shot.rate)
        self.program = self._program()
        self.free_way = self._made(minimise_free(self.program))
        self.middle = self._roomiest(self.free_way)
        self.demand = self.chart.demand(region, self.free_way, self.middle)
        moved = region.stage.rows is not None or region.dead is not None
        self.least = max(1.0, float(self.chart.demand(bound, self.measured, rest).max())) if moved else 1.0
        self._bound_before: Floats | None = None

    def forget(self) -> None:
        """Look for the next path from the free one, not from the one within the limit asked for before."""
        self._bound_before = None

    def path(self, limit: float) -> CameraPath:
        """The path within a zoom limit. Raises SolveError."""
        sizes = self.sizes(self.free_way)
        wanted = self.demand / sizes
        if self.edges.way == "borrow":
            return self.lent(limit, wanted)
        if self.edges.way == "leave":
            return self.made(self.free_way, np.ones(len(wanted)), wanted, False)
        shrink = window_shrink(self.demand, self.edges, self.rate)
        if float((shrink / sizes).max()) <= limit:
            return self.made(self.free_way, shrink, wanted, False, middle=self.middle)
        inner = self.base(limit)
        bound = self.bound_way(inner, inner / limit)
        most = limit * float(self.sizes(bound).min())
        shrink = np.minimum(window_shrink(self.own_demand(bound), self.edges, self.rate), most)
        return self.made(bound, shrink, wanted, True, middle=self.rest)

    def base(self, limit: float) -> float:
        """How far the window is shrunk under a limit."""
        return max(self.least, limit * max(0.9, min(1.0, float(self.sizes(self.free_way).min()))))

    def sizes(self, way: Floats) -> Floats:
        """How large frames lie in the steadied ones (N,)."""
        return self.chart.sizes(way)

    def own_demand(self, way: Floats) -> Floats:
        """The smallest Z (N,) whose window, where a limit binds, holds nothing that a frame itself has not seen."""
        return self.chart.demand(self.region, way, self.rest)

    def borrowing(self, way: Floats, own: Floats) -> Borrowing:
        """What frames lend each other along a way, whose windows shrunk by `own` (N,) need nothing that is lent."""
        shown, seen = self.chart.trajectory(way), self.chart.trajectory(self.measured)
        corrected = homographies_between(shown, seen)

        def homographies(offset: int) -> Floats:
            return homographies_between(seen, seen, offset) @ corrected

        offsets = lending_offsets(self.edges.borrow.reach_s, self.rate)
        return borrowing_behind(
            self.region, homographies, offsets, self.chart.frames,
            own=1 / np.maximum(1.0, own), count=self.rays, middle=self.rest,
        )  # fmt: skip

    def _roomiest(self, way: Floats) -> complex:
        """Where the window's middle lies best along a way: where it is, but for dead edges."""
        if self.region.dead is None or self.edges.way == "borrow":
            return self.rest
        return self.region.roomiest(self.chart.homographies(way), self.chart.frames)

    def _program(self) -> BandedProgram:
        """The path as if nothing bound it: drawn to what was measured, or to the middle of where it went."""
        count, k = len(self.measured), len(self.columns)
        target = self.measured[:, self.columns]
        if self.pull.hold:
            target = np.broadcast_to((target.max(0) + target.min(0)) / 2, target.shape)
        bands = difference_bands(self.pull.first, self.pull.third)
        hessian = np.zeros((k * (len(bands) - 1) + 1, k * count))
        hessian[::k] = np.repeat(bands, k, axis=1)
        return BandedProgram(hessian, target.ravel(), np.zeros((0, k)), self.pull.strength, np.zeros((count, 0)))

    def _made(self, wished: Floats) -> Floats:
        """The share of the correction that is made."""
        made = self.measured.copy()
        made[:, self.columns] += self.pull.strength[:, None] * (wished - made[:, self.columns])
        return made

    def bound_way(self, inner: float, least_size: float) -> Floats:
        """The path that keeps a window shrunk by `inner` inside what was seen, no frame magnified by more than
        1 / `least_size`; the measured one where that leaves no room to be steadier. Raises SolveError.

        It is looked for from the path within the limit asked for before, if there is one.
        """
        if inner <= self.least * SPARE and least_size <= 1:
            return self.measured
        near, spare = self._bound_before, inner - 1
        start = self._drawn_back(self.free_way if near is None else near, inner, least_size)
        path = start
        for done in range(PROGRAMS):
            try:
                path = self._programmed(path, inner, least_size)
            except SolveError:
                if self.chart.excess(start, inner, least_size).max() > EXACT:
                    raise
                break  # near what was found last the limits leave nothing
            out = self.chart.excess(path, inner, least_size).max()
            if out <= SETTLED * spare and (done or near is not None):
                break
            if out > FAR_OUT * spare:
                path = self._fitted(path, inner, least_size)
        found = (self._fitted(path, inner, least_size), start, self.measured)
        self._bound_before = min(found, key=lambda figures: shake(self.chart.poses(figures), self.size))
        return self._bound_before

    def _programmed(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The best path within the limits as they are near another one. Raises SolveError."""
        room, slopes = self.chart.limits(path, inner, least_size)
        unmade = path[:, self.columns] - (1 - self.pull.strength)[:, None] * self.measured[:, self.columns]
        program = replace(self.program, rows=-slopes, bound=room - np.einsum("nmk,nk->nm", slopes, unmade))
        return self._made(minimise(program, path[:, self.columns], EXACT))

    def _fitted(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path with every frame within the limits."""
        return self._drawn_back(self._pushed_in(path, inner, least_size), inner, least_size)

    def _pushed_in(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path, each frame that breaks a limit moved the shortest way across the one it breaks most, some times."""
        path, out = path.copy(), np.arange(len(path))
        for _ in range(PUSHES):
            out = out[self.chart.excess(path, inner, least_size, out) > 0]
            if not len(out):
                break
            left, slopes = self.chart.limits(path, inner, least_size, out)
            worst = left.argmin(1)
            short, slope = left[np.arange(len(out)), worst], slopes[np.arange(len(out)), worst]
            step = np.maximum(0, PUSH_PX - short) / np.maximum((slope**2).sum(1), 1e-6)
            path[np.ix_(out, self.columns)] += step[:, None] * slope
        return path

    def _drawn_back(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path, nearer to the measured one on frames that still reach out or are magnified too much.

        The share that fits is closed in on by regula falsi, its idle end halved (the Illinois method).
        """
        path = path.copy()
        excess = self.chart.excess(path, inner, least_size)
        out = np.flatnonzero(excess > 0)
        away = path[out] - self.measured[out]
        low, high = np.zeros(len(out)), np.ones(len(out))
        below, above = self.chart.excess(self.measured, inner, least_size, out), excess[out]
        for _ in range(CLOSER if len(out) else 0):
            share = low + (high - low) * np.clip(below / np.minimum(below - above, -1e-12), 0.02, 0.98)
            path[out] = self.measured[out] + share[:, None] * away
            found = self.chart.excess(path, inner, least_size, out)
            fits = found <= 0
            low, high = np.where(fits, share, low), np.where(fits, high, share)
            below, above = np.where(fits, found, below / 2), np.where(fits, above / 2, found)
        path[out] = self.measured[out] + low[:, None] * away
        return path

    def made(
        self,
        way: Floats,
        shrink: Floats,
        wanted: Floats,
        limited: bool,
        borrowed: Borrowing | None = None,
        middle: complex = 0j,
    ) -> CameraPath:
        """The path of a way, with its window."""
        return CameraPath(
            size=self.size, first=self.first, shrink=shrink, wanted_zoom=wanted, limited=limited, borrowed=borrowed,
            middle=middle, measured=self.chart.trajectory(self.measured), steadied=self.chart.trajectory(way),
            region=self.region, stage=self.within,
        )  # fmt: skip
