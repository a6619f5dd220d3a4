"""The chart of a camera that is turned behind its lens: what its figures mean, and what limits them.

However wide the lens, a camera that turned by C moved its flat picture by K C inv(K) (Hartley & Zisserman 2004, 8.4),
so the picture of a steadier camera is had from it without error. Figures (N, 4) are the camera's yaw, pitch and roll
about the mean direction, and by how much the picture grew, as px in the middle of the delivered picture. The window may
lie anywhere in what the lens saw, also where the straightened frame ends.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.homography_parts import sizes_of
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import AT_A_TIME, SeenRegion
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.motion.turns import CameraTurns
from keen_horizon.core.path.seen_through import window_about
from keen_horizon.core.path.trajectory import Trajectory
from keen_horizon.core.path.window import centred_corners

Floats = NDArray[np.float64]
Chosen = slice | NDArray[np.intp]  # of a shot's frames

SPARE = 1.0005  # programs hold a slightly larger window, less than the lens's own frame has to spare
NUDGE_PX = 0.5
PARTS, POINTS = 32, 7  # of the window's border, and the points looked at in each


class TurnedChart:
    """The figures of N frames of `size` from clip number `first`, of which `columns` may be changed.

    Windows lie about `rest`, px from the middle; what they show lies in `region`, and where a limit binds in `bound`.
    """

    def __init__(
        self,
        turns: CameraTurns,
        size: Size,
        first: int,
        *,
        columns: NDArray[np.intp],
        region: SeenRegion,
        bound: SeenRegion,
        rest: complex,
    ) -> None:
        count = len(turns.growth)
        self.size, self.columns, self.rest = size, columns, rest
        self.region, self.bound = region, bound
        self.frames = first + np.arange(count)
        glass = region.stage.at(first + count // 2)
        self.focal = glass.view.focal * size.half_diagonal / glass.step
        self.rays_from_out = _rays_from_out(region.stage, self.frames)
        self.out_from_rays = np.linalg.inv(self.rays_from_out)
        angles = (turns.rotations.mean().inv() * turns.rotations).as_euler("YXZ")
        self.measured = np.column_stack([np.unwrap(angles, axis=0), turns.growth]) * self.focal

    def homographies(self, figures: Floats, chosen: Chosen = slice(None)) -> Floats:
        """The homographies src_from_out (N, 3, 3), px from the middle, that show every frame, or those chosen, as from
        another camera.
        """
        measured = self.measured[chosen]
        turned = np.swapaxes(_cameras(measured / self.focal), 1, 2) @ _cameras(figures[chosen] / self.focal)
        homographies = self.out_from_rays[chosen] @ turned @ self.rays_from_out[chosen]
        homographies[:, :, :2] *= np.exp((figures[chosen, 3] - measured[:, 3]) / self.focal)[:, None, None]
        return np.asarray(homographies / homographies[:, 2:, 2:])

    def sizes(self, figures: Floats, chosen: Chosen = slice(None)) -> Floats:
        """How large frames lie in the steadied ones (N,)."""
        return sizes_of(self.homographies(figures, chosen))

    def demand(self, region: SeenRegion, way: Floats, middle: complex, chosen: Chosen = slice(None)) -> Floats:
        """The smallest Z (N,) of windows about a place that hold nothing beyond a region."""
        window = window_about(middle) if middle else None
        return region.demand(self.homographies(way, chosen), self.frames[chosen], window)

    def excess(self, path: Floats, inner: float, least_size: float, chosen: Chosen = slice(None)) -> Floats:
        """By what share frames break the bounds of the window and of the size; 0 or less where they do not."""
        sizes = self.sizes(path, chosen)
        return np.maximum(self.demand(self.bound, path, self.rest, chosen) / inner, least_size / sizes) - 1

    def limits(
        self, path: Floats, inner: float, least_size: float, chosen: Chosen = slice(None)
    ) -> tuple[Floats, Floats]:
        """What is left (N, m) up to what binds a path, px, and its slopes (N, m, k), of every frame or of those chosen.

        That is the window inside the source, at the point with least room of every part of its border, growth, and
        the size above the least.
        """
        rows = np.arange(len(path))[chosen]
        if len(rows) > AT_A_TIME:
            parts = [rows[start : start + AT_A_TIME] for start in range(0, len(rows), AT_A_TIME)]
            found = [self.limits(path, inner, least_size, part) for part in parts]
            return np.concatenate([room for room, _ in found]), np.concatenate([slopes for _, slopes in found])
        window = self._window(inner)
        windows = [window[None]] * (1 + (self.region.dead is not None))
        rooms = self._rooms(self.homographies(path, chosen), windows, chosen)
        by_part = [room.reshape(len(room), PARTS, -1) for room in rooms]
        each = [np.arange(PARTS) * part.shape[2] for part in by_part]
        tightest = [window[part.argmin(2) + first] for part, first in zip(by_part, each, strict=True)]

        def left(near: Floats) -> Floats:
            homographies = self.homographies(near, chosen)
            grown = near[chosen, 3] - self.measured[chosen, 3] - self.focal * np.log(least_size)
            larger = self.focal * np.log(sizes_of(homographies) / least_size)
            return np.column_stack([*self._rooms(homographies, tightest, chosen), grown, larger])

        now = left(path)
        moves = np.eye(4)[self.columns] * NUDGE_PX
        return now, np.stack([left(path + move) - now for move in moves], -1) / NUDGE_PX

    def _window(self, inner: float) -> Complex:
        """Points (PARTS * n,) of the border of a window shrunk by `inner`, px from its middle, part by part."""
        corners = centred_corners(self.size) * ((SPARE if self.region.whole else 1.0) / inner) + self.rest
        ends = np.linspace(0, 1, PARTS // 4 + 1)
        along = np.concatenate([np.linspace(*part, POINTS) for part in pairwise(ends)])
        return (corners[:, None] + along * (np.roll(corners, -1) - corners)[:, None]).ravel()

    def _rooms(self, homographies: Floats, points: list[Complex], chosen: Chosen) -> list[Floats]:
        """How far points of the window's border lie inside their own side of the source, px (N, m), and others inside
        its dead edge, where it has one.
        """
        rooms = [self._room(homographies, points[0], chosen)]
        if self.bound.dead is not None:
            half = self.size.half_diagonal
            places = self.bound.places(homographies, points[1], self.frames[chosen])
            rooms.append(self.bound.dead.room(places / half) * half)
        return rooms

    def _room(self, homographies: Floats, window: Complex, chosen: Chosen) -> Floats:
        """How far points of the window's border lie inside their own side of the source, px (N, m).

        Points (N or 1, m) go round from the top, as many on every side.
        """
        places = self.region.places(homographies, window, self.frames[chosen])
        top, right, bottom, left = np.split(places, 4, axis=1)
        half_width, half_height = self.size.width / 2, self.size.height / 2
        inside = (half_height + top.imag, half_width - right.real, half_height - bottom.imag, half_width + left.real)
        return np.concatenate(inside, 1)

    def trajectory(self, figures: Floats) -> Trajectory:
        """Where a camera of such figures stands."""
        poses = self.poses(figures)
        return Trajectory(
            matrices=_cameras(figures / self.focal), rays_from_px=self.rays_from_out, growth=figures[:, 3] / self.focal,
            poses=poses, tilts=-poses.t / self.focal**2,
        )  # fmt: skip

    def poses(self, figures: Floats) -> Similarities:
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
