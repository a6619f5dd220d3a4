"""Steadying by turning the camera behind a lens whose angles are known.

However wide the lens, a camera that turned by C moved its flat picture by K C inv(K) (Hartley & Zisserman 2004, 8.4),
so the picture of a steadier camera is had from it without error. The path is the camera's yaw, pitch and roll, and by
how much the picture grew; each is smoothed like the rest of a path (see `solve`). The window may lie anywhere in what
the lens saw, also where the straightened frame ends. A cylinder or stereographic picture is projected from the steadied
camera, and what other frames lend is seen in their own directions.

A zoom limit binds the window's border in the source's pixels. That is not linear in the angles, so it is solved by
a sequence of programs, each with the limits as they are near the last path; what then still reaches out is moved in
the shortest way, or drawn back to the measured path, frame by frame.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import SolveError
from keen_horizon.core.geometry.homography_parts import sizes_of
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import AT_A_TIME, SeenRegion
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.turns import CameraTurns, camera_turns
from keen_horizon.core.path.banded import BandedProgram, minimise, minimise_free
from keen_horizon.core.path.borrowing import Borrowing, borrowing_behind, lending_offsets
from keen_horizon.core.path.breathing import window_shrink
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.lending import LendingShot
from keen_horizon.core.path.program import difference_bands
from keen_horizon.core.path.seen_through import Hiding, window_about
from keen_horizon.core.path.shots import shots
from keen_horizon.core.path.trajectory import Trajectory, homographies_between
from keen_horizon.core.path.window import centred_corners
from keen_horizon.core.path.wish import pull_of
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

PROGRAMS = 3
SETTLED, FAR_OUT = 0.05, 0.1  # of what the limit leaves: mended without another program, and before the next
SPARE = 1.0005  # programs hold a slightly larger window, less than the lens's own frame has to spare
EXACT = 1e-7
NUDGE_PX = 0.5
PUSHES, PUSH_PX = 5, 0.02
PARTS, POINTS = 32, 7  # of the window's border, and the points looked at in each
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
    """A shot's path before a zoom limit is chosen. Figures (N, 4) are the camera's yaw, pitch and roll about the mean
    direction, and growth, as px in the middle of the delivered picture.
    """

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
        self.within, self.bound, self.rest, self.rays = within, bound, rest, rays
        self.size, self.first, self.rate = shot.size, shot.first, shot.rate
        self.edges, self.region = treatment.edges, region
        self.frames = shot.first + np.arange(len(shot))
        glass = region.stage.at(shot.first + len(shot) // 2)
        self.focal = glass.view.focal * shot.size.half_diagonal / glass.step
        self.rays_from_out = _rays_from_out(region.stage, self.frames)
        self.out_from_rays = np.linalg.inv(self.rays_from_out)
        angles = (turns.rotations.mean().inv() * turns.rotations).as_euler("YXZ")
        self.measured = np.column_stack([np.unwrap(angles, axis=0), turns.growth]) * self.focal
        self.pull = pull_of(treatment.motion, shot.first, len(shot), shot.rate)
        self.columns = np.arange(4 if "size" in treatment.motion.freedom else 3)
        self.program = self._program()
        self.free_way = self._made(minimise_free(self.program))
        self.middle = self._roomiest(self.free_way)
        self.demand = self._demand(region, self.free_way, self.middle)
        moved = region.stage.rows is not None or region.dead is not None
        self.least = max(1.0, float(self._demand(bound, self.measured, rest).max())) if moved else 1.0
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
        return sizes_of(self._homographies(way))

    def own_demand(self, way: Floats) -> Floats:
        """The smallest Z (N,) whose window, where a limit binds, holds nothing that a frame itself has not seen."""
        return self._demand(self.region, way, self.rest)

    def borrowing(self, way: Floats) -> Borrowing:
        """What frames lend each other along a way."""
        shown, seen = self._trajectory(way), self._trajectory(self.measured)
        corrected = homographies_between(shown, seen)

        def homographies(offset: int) -> Floats:
            return homographies_between(seen, seen, offset) @ corrected

        offsets = lending_offsets(self.edges.borrow.reach_s, self.rate)
        return borrowing_behind(self.region, homographies, offsets, self.frames, self.rays, self.rest)

    def _demand(
        self, region: SeenRegion, way: Floats, middle: complex, chosen: slice | NDArray[np.intp] = slice(None)
    ) -> Floats:
        """The smallest Z (N,) of windows about a place that hold nothing beyond a region."""
        window = window_about(middle) if middle else None
        return region.demand(self._homographies(way, chosen), self.frames[chosen], window)

    def _roomiest(self, way: Floats) -> complex:
        """Where the window's middle lies best along a way: where it is, but for dead edges."""
        if self.region.dead is None or self.edges.way == "borrow":
            return self.rest
        return self.region.roomiest(self._homographies(way), self.frames)

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

    def _homographies(self, figures: Floats, chosen: slice | NDArray[np.intp] = slice(None)) -> Floats:
        """The homographies src_from_out (N, 3, 3), px from the middle, that show every frame, or those chosen, as from
        another camera.
        """
        measured = self.measured[chosen]
        turned = np.swapaxes(_cameras(measured / self.focal), 1, 2) @ _cameras(figures[chosen] / self.focal)
        homographies = self.out_from_rays[chosen] @ turned @ self.rays_from_out[chosen]
        homographies[:, :, :2] *= np.exp((figures[chosen, 3] - measured[:, 3]) / self.focal)[:, None, None]
        return np.asarray(homographies / homographies[:, 2:, 2:])

    def bound_way(self, inner: float, least_size: float) -> Floats:
        """The path that keeps a window shrunk by `inner` inside what was seen, no frame magnified by more than
        1 / `least_size`; the measured one where that leaves no room to be steadier. Raises SolveError.

        It is looked for from the path within the limit asked for before, if there is one.
        """
        if inner <= (self.least if self.region.dead is not None else 1.0) * SPARE:
            return self.measured
        near, spare = self._bound_before, inner - 1
        start = self._drawn_back(self.free_way if near is None else near, inner, least_size)
        path = start
        for done in range(PROGRAMS):
            try:
                path = self._programmed(path, inner, least_size)
            except SolveError:
                if not done:
                    raise
                break  # near what was found last the limits leave nothing
            out = self._excess(path, inner, least_size).max()
            if out <= SETTLED * spare and (done or near is not None):
                break
            if out > FAR_OUT * spare:
                path = self._fitted(path, inner, least_size)
        found = (self._fitted(path, inner, least_size), start, self.measured)
        self._bound_before = min(found, key=lambda figures: shake(self._poses(figures), self.size))
        return self._bound_before

    def _programmed(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The best path within the limits as they are near another one. Raises SolveError."""
        room, slopes = self._limits(path, inner, least_size)
        unmade = path[:, self.columns] - (1 - self.pull.strength)[:, None] * self.measured[:, self.columns]
        program = replace(self.program, rows=-slopes, bound=room - np.einsum("nmk,nk->nm", slopes, unmade))
        return self._made(minimise(program, path[:, self.columns], EXACT))

    def _fitted(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path with every frame within the limits."""
        return self._drawn_back(self._pushed_in(path, inner, least_size), inner, least_size)

    def _limits(
        self, path: Floats, inner: float, least_size: float, chosen: slice | NDArray[np.intp] = slice(None)
    ) -> tuple[Floats, Floats]:
        """What is left (N, m) up to what binds a path, px, and its slopes (N, m, k), of every frame or of those chosen.

        That is the window inside the source, at the point with least room of every part of its border, growth, and
        the size above the least.
        """
        rows = np.arange(len(path))[chosen]
        if len(rows) > AT_A_TIME:
            parts = [rows[start : start + AT_A_TIME] for start in range(0, len(rows), AT_A_TIME)]
            found = [self._limits(path, inner, least_size, part) for part in parts]
            return np.concatenate([room for room, _ in found]), np.concatenate([slopes for _, slopes in found])
        window = self._window(inner)
        windows = [window[None]] * (1 + (self.region.dead is not None))
        rooms = self._rooms(self._homographies(path, chosen), windows, chosen)
        by_part = [room.reshape(len(room), PARTS, -1) for room in rooms]
        each = [np.arange(PARTS) * part.shape[2] for part in by_part]
        tightest = [window[part.argmin(2) + first] for part, first in zip(by_part, each, strict=True)]

        def left(near: Floats) -> Floats:
            homographies = self._homographies(near, chosen)
            grown = near[chosen, 3] - self.measured[chosen, 3] - self.focal * np.log(least_size)
            larger = self.focal * np.log(sizes_of(homographies) / least_size)
            return np.column_stack([*self._rooms(homographies, tightest, chosen), grown, larger])

        now = left(path)
        moves = np.eye(4)[self.columns] * NUDGE_PX
        return now, np.stack([left(path + move) - now for move in moves], -1) / NUDGE_PX

    def _pushed_in(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path, each frame that breaks a limit moved the shortest way across the one it breaks most, some times."""
        path, out = path.copy(), np.arange(len(path))
        for _ in range(PUSHES):
            out = out[self._excess(path, inner, least_size, out) > 0]
            if not len(out):
                break
            left, slopes = self._limits(path, inner, least_size, out)
            worst = left.argmin(1)
            short, slope = left[np.arange(len(out)), worst], slopes[np.arange(len(out)), worst]
            step = np.maximum(0, PUSH_PX - short) / np.maximum((slope**2).sum(1), 1e-6)
            path[np.ix_(out, self.columns)] += step[:, None] * slope
        return path

    def _window(self, inner: float) -> Complex:
        """Points (PARTS * n,) of the border of a window shrunk by `inner`, px from its middle, part by part."""
        corners = centred_corners(self.size) * ((SPARE if self.region.whole else 1.0) / inner) + self.rest
        ends = np.linspace(0, 1, PARTS // 4 + 1)
        along = np.concatenate([np.linspace(*part, POINTS) for part in pairwise(ends)])
        return (corners[:, None] + along * (np.roll(corners, -1) - corners)[:, None]).ravel()

    def _rooms(self, homographies: Floats, points: list[Complex], chosen: slice | NDArray[np.intp]) -> list[Floats]:
        """How far points of the window's border lie inside their own side of the source, px (N, m), and others inside
        its dead edge, where it has one.
        """
        rooms = [self._room(homographies, points[0], chosen)]
        if self.bound.dead is not None:
            half = self.size.half_diagonal
            places = self.bound.places(homographies, points[1], self.frames[chosen])
            rooms.append(self.bound.dead.room(places / half) * half)
        return rooms

    def _room(self, homographies: Floats, window: Complex, chosen: slice | NDArray[np.intp]) -> Floats:
        """How far points of the window's border lie inside their own side of the source, px (N, m).

        Points (N or 1, m) go round from the top, as many on every side.
        """
        places = self.region.places(homographies, window, self.frames[chosen])
        top, right, bottom, left = np.split(places, 4, axis=1)
        half_width, half_height = self.size.width / 2, self.size.height / 2
        inside = (half_height + top.imag, half_width - right.real, half_height - bottom.imag, half_width + left.real)
        return np.concatenate(inside, 1)

    def _drawn_back(self, path: Floats, inner: float, least_size: float) -> Floats:
        """The path, nearer to the measured one on frames that still reach out or are magnified too much.

        The share that fits is closed in on by regula falsi, its idle end halved (the Illinois method).
        """
        path = path.copy()
        excess = self._excess(path, inner, least_size)
        out = np.flatnonzero(excess > 0)
        away = path[out] - self.measured[out]
        low, high = np.zeros(len(out)), np.ones(len(out))
        below, above = self._excess(self.measured, inner, least_size, out), excess[out]
        for _ in range(CLOSER if len(out) else 0):
            share = low + (high - low) * np.clip(below / np.minimum(below - above, -1e-12), 0.02, 0.98)
            path[out] = self.measured[out] + share[:, None] * away
            found = self._excess(path, inner, least_size, out)
            fits = found <= 0
            low, high = np.where(fits, share, low), np.where(fits, high, share)
            below, above = np.where(fits, found, below / 2), np.where(fits, above / 2, found)
        path[out] = self.measured[out] + low[:, None] * away
        return path

    def _excess(
        self, path: Floats, inner: float, least_size: float, chosen: slice | NDArray[np.intp] = slice(None)
    ) -> Floats:
        """By what share frames break the bounds of the window and of the size; 0 or less where they do not."""
        sizes = sizes_of(self._homographies(path, chosen))
        return np.maximum(self._demand(self.bound, path, self.rest, chosen) / inner, least_size / sizes) - 1

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
            middle=middle, measured=self._trajectory(self.measured), steadied=self._trajectory(way),
            region=self.region, stage=self.within,
        )  # fmt: skip

    def _trajectory(self, figures: Floats) -> Trajectory:
        poses = self._poses(figures)
        return Trajectory(
            matrices=_cameras(figures / self.focal), rays_from_px=self.rays_from_out, growth=figures[:, 3] / self.focal,
            poses=poses, tilts=-poses.t / self.focal**2,
        )  # fmt: skip

    def _poses(self, figures: Floats) -> Similarities:
        """What the figures are in the middle of the picture: reference_from_frame (N,)."""
        yaw, pitch, roll, growth = figures.T
        return Similarities(np.exp((growth + 1j * roll) / self.focal), yaw - 1j * pitch)


def _cameras(angles: Floats) -> Floats:
    """World_from_camera (N, 3, 3) of yaw, pitch and roll, radians, in this order (N, 3 or more)."""
    (cy, cp, cr), (sy, sp, sr) = np.cos(angles[:, :3]).T, np.sin(angles[:, :3]).T
    rows = [
        [cy * cr + sy * sp * sr, sy * sp * cr - cy * sr, sy * cp],
        [cp * sr, cp * cr, -sp],
        [cy * sp * sr - sy * cr, sy * sr + cy * sp * cr, cy * cp],
    ]
    return np.moveaxis(np.array(rows), -1, 0)


def _rays_from_out(stage: OpticsStage, frames: NDArray[np.intp]) -> Floats:
    """From px of the delivered picture, origin in its middle, to rays (N, 3, 3)."""
    rays = np.stack([_rays_of(stage.at(int(frame))) for frame in (frames[:1] if stage.steady else frames)])
    return np.broadcast_to(rays, (len(frames), 3, 3))


def _rays_of(glass: LensStage) -> Floats:
    scale = glass.step / glass.size.half_diagonal
    return np.asarray(np.linalg.inv(glass.camera) @ glass.view.matrix @ np.diag([scale, scale, 1.0]))
