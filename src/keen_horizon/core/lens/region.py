"""Where the straightened picture has something to show, frame by frame: a window may lie anywhere in it.

Where gaps are wanted round the straightened picture, it is the delivered frame itself. Windows are homographies
(N, 3, 3) src_from_out of frames from clip number `first`, from the window to the straightened picture, px from the
middle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere_complex
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.dead_border import Cuts, dead_borders, dead_cuts
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.projection import flat, projected
from keen_horizon.core.lens.seen import carried, frame_shares
from keen_horizon.core.lens.stage import LensStage, seen_border, seen_borders

Projecting = Callable[[str, "Floats | float", Floats], Floats]

BORDER_STEP = 16
FURTHEST_SEEN = np.radians(83.0)  # from the delivered picture's axis: the flat picture, broken further out, still holds
CIRCLE = 181  # points
BOW = 1.0003  # between the points looked at, the border of what a lens saw bows by less
LARGEST_DEMAND = 99.0
GRID = (25, 15)  # points, those of the border among them, so that no thin gap is overlooked
CELLS = (40, 23)  # whose middles stand for their areas
AT_A_TIME = 1000  # frames
DIRECTIONS = 720  # that the middle of a window is looked for by
FIRST_STEP, FINER_GRIDS = 0.04, 12  # of the frame's sides, four each way; halved so often: to a hundredth of a pixel
UNMOVED = 0.05  # of a share of the frame's width, that a window would rather not be moved by
_STEPS = np.arange(-4.0, 5.0)
_AROUND = np.exp(2j * np.pi * np.arange(DIRECTIONS) / DIRECTIONS)


@dataclass(frozen=True)
class SeenRegion:
    """What frames of `size` from clip number `first` show; `borders` (N or 1, M), px from the flat picture's middle.

    `whole` tells whether all that the lens saw may be shown, not only what lies in the delivered frame. Homographies
    act on the flat picture; windows lie in the delivered one, whose `projection` may be another. Beyond a dead edge
    nothing was seen, unless gaps are wanted round the straightened picture anyway.
    """

    stage: OpticsStage
    size: Size
    first: int
    borders: Complex
    whole: bool
    projection: str = "straight"

    @staticmethod
    @kept_lately
    def of(stage: OpticsStage, size: Size, first: int, count: int, turned: bool = False) -> SeenRegion:
        """What `count` frames from clip number `first` show; `turned` where homographies turn the camera, which comes
        after a projection.
        """
        projection = stage.stages[0].view.projection if turned else "straight"
        if projection != "straight":
            stage = stage.unprojected()
        borders = _borders(stage, first, count)
        region = SeenRegion(stage, size, first, borders, True, projection)
        bare = stage.with_rows(None).with_dead(None)
        alone = borders if stage.rows is None and stage.dead is None else _borders(bare, first, count)
        shown = region._delivered(alone, first + np.arange(len(alone)))
        if (frame_shares(shown, size) >= 1 / BOW).all():
            return region
        own = region._flattened(_own_border(size, projection)[None], np.array([first]))
        return replace(region, borders=own, whole=False)

    @property
    def projected(self) -> bool:
        """Whether windows do not lie in the flat picture."""
        return self.projection != "straight"

    @property
    def dead(self) -> DeadEdge | None:
        """The edge beyond which nothing was seen, where that ends what may be shown."""
        return self.stage.dead if self.whole else None

    @cached_property
    def cuts(self) -> Cuts:
        """Straight cuts of the straightened picture, its rows left out, within which nothing is dead."""
        assert self.dead is not None
        return dead_cuts(list(self.stage.stages), self.dead)

    def roomiest(self, homographies: Floats, frames: NDArray[np.intp], framed: bool = False) -> complex:
        """The place, px from the middle, about which windows of frames (N,) may be largest with no gap in any; of
        places that are as good the one nearest the middle. `framed` keeps to the straightened frame, too.

        Looked for on ever finer grids about the best place so far: what is free of gaps in all frames is convex but for
        what a lens bows.
        """
        nearest = np.full(DIRECTIONS, np.inf)
        frame = (as_complex(self.size.border(BORDER_STEP)) - self.size.centre)[None]
        for start in range(0, len(homographies), AT_A_TIME):
            part = slice(start, start + AT_A_TIME)
            border = self._border_of(frames[part])
            for curves in (border, frame) if framed else (border,):
                seen = self._seen(curves, homographies[part], frames[part], None)
                nearest = np.minimum(nearest, _nearest_around(seen))
        curve = np.where(np.isfinite(nearest), nearest, NOWHERE) * _AROUND
        curve = np.append(curve, curve[0])
        best, step = 0j, complex(self.size.width, self.size.height) * FIRST_STEP
        for _ in range(FINER_GRIDS):
            offsets = best + (_STEPS[None] * step.real + 1j * _STEPS[:, None] * step.imag).ravel()
            shares = frame_shares(curve[None] - offsets[:, None], self.size)
            shares -= UNMOVED * np.abs(offsets) / self.size.width
            best, step = complex(offsets[shares.argmax()]), step / 2
        return best

    def demand(self, homographies: Floats, frames: NDArray[np.intp], windows: Floats | None = None) -> Floats:
        """The smallest Z (N,) by which windows (N or 1, 3, 3) of frames (N,), clip numbering, shrink to hold no gap."""
        return in_parts(
            lambda part: self._demand(homographies[part], frames[part], _part(windows, part)), len(homographies)
        )

    def _demand(self, homographies: Floats, frames: NDArray[np.intp], windows: Floats | None) -> Floats:
        seen = self._seen(self._border_of(frames), homographies, frames, windows)
        if self.projected:
            furthest = self._furthest(frames)
            seen = np.concatenate([seen, furthest if windows is None else _back(furthest, windows)], 1)
        bow = BOW if self.whole or self.projected else 1.0
        return np.minimum(bow / np.maximum(frame_shares(seen, self.size), 1e-9), LARGEST_DEMAND)

    def gaps(self, homographies: Floats, first: int, windows: Floats | None = None) -> Floats:
        """The share (N,) of each window that has no picture, on a grid of its points."""
        open_ = np.zeros(len(homographies))
        frames = first + np.arange(len(homographies))
        short = np.flatnonzero(self.demand(homographies, frames, windows) > BOW)
        if len(short):
            grid = _grid(self.size)[None]

            def inside(part: slice) -> Floats:
                which = short[part]
                places = self.places(homographies[which], grid, frames[which], _part(windows, which))
                return np.asarray(self.shown(places).mean(1), np.float64)

            open_[short] = 1 - in_parts(inside, len(short))
        return open_

    def kept(self, homographies: Floats, first: int, windows: Floats | None = None) -> Floats:
        """The share (N,) of what the straightened frame shows that each window shows, one at most."""
        frames = first + np.arange(len(homographies))
        return in_parts(
            lambda part: self._kept(homographies[part], frames[part], _part(windows, part)), len(homographies)
        )

    def _kept(self, homographies: Floats, frames: NDArray[np.intp], windows: Floats | None) -> Floats:
        grid = as_points(_cells(self.size) + self.size.centre)
        chosen = frames[:1] if self.stage.steady else frames
        every = np.tile(grid, (len(chosen), 1))
        straight = self.stage.each(np.repeat(chosen, len(grid)), every, lambda stage, part: stage.straighten(part))
        offsets = as_complex(straight).reshape(len(chosen), -1) - self.size.centre
        whole = self.within(self._delivered(offsets, chosen)).mean(1)
        seen = self.within(self._seen(offsets, homographies, frames, windows)).mean(1)
        return np.asarray(np.minimum(1.0, seen / np.maximum(whole, 1e-9)))

    def places(
        self, homographies: Floats, points: Complex, frames: NDArray[np.intp], windows: Floats | None = None
    ) -> Complex:
        """Where points (N or 1, P) of windows of frames (N,), clip numbering, lie in what is shown, from its middle."""
        if windows is not None:
            points = carried(points, windows)
        flat_places = carried(self._flattened(points, frames), homographies)
        if not self.whole:
            return self._delivered(flat_places, frames)
        places = as_points((flat_places + self.size.centre).ravel()).reshape(*flat_places.shape, 2)
        of = np.repeat(frames, flat_places.shape[1])
        bent = self.stage.each(of, places.reshape(-1, 2), lambda stage, part: stage.points(part))
        return np.asarray(as_complex(bent.reshape(-1, 2)).reshape(flat_places.shape) - self.size.centre)

    def lent(self, homographies: Floats, points: Complex, frames: NDArray[np.intp], offset: int) -> Complex:
        """Where points (P,) of windows of frames (P,), each through its own homography (P, 3, 3), lie in the source of
        the frame `offset` away, from its middle.
        """
        lenders = replace(self, stage=self.stage.shifted(offset), whole=True)
        return lenders.places(homographies, points[:, None], frames)[:, 0]

    def shown(self, places: Complex, margin: float = 0.0) -> NDArray[np.bool_]:
        """Whether there is picture at `places` of what is shown, px from its middle, `margin` px inside it at least."""
        inside = self.within(places, margin)
        if self.dead is not None:
            half = self.size.half_diagonal
            inside &= self.dead.room(places / half) >= margin / half
        return inside

    def within(self, points: Complex, margin: float = 0.0) -> NDArray[np.bool_]:
        """Whether points, px from the middle, lie in the frame, `margin` px from its border at least."""
        across, down = self.size.width / 2 - margin, self.size.height / 2 - margin
        return (np.abs(points.real) <= across) & (np.abs(points.imag) <= down)

    def _border_of(self, frames: NDArray[np.intp]) -> Complex:
        return self.borders if len(self.borders) == 1 else self.borders[frames - self.first]

    def _seen(self, curves: Complex, homographies: Floats, frames: NDArray[np.intp], windows: Floats | None) -> Complex:
        """Curves (N or 1, M) of the flat picture in windows of frames (N,)."""
        seen = self._delivered(_back(curves, homographies), frames)
        return seen if windows is None else _back(seen, windows)

    def _delivered(self, points: Complex, frames: NDArray[np.intp]) -> Complex:
        """Points (N or 1, M) of the flat picture in the delivered one."""
        return self._through(projected, points, frames) if self.projected else points

    def _flattened(self, points: Complex, frames: NDArray[np.intp]) -> Complex:
        """The reverse of `_delivered`."""
        return self._through(flat, points, frames) if self.projected else points

    def _through(self, way: Projecting, points: Complex, frames: NDArray[np.intp]) -> Complex:
        scales, focals = self._scales(frames)
        count = max(len(points), len(scales))
        points = np.broadcast_to(points, (count, points.shape[1]))
        scale, focal = (np.repeat(np.broadcast_to(of, count), points.shape[1]) for of in (scales, focals))
        found = way(self.projection, focal, as_points(points.ravel()) * scale[:, None]) / scale[:, None]
        return as_complex(found).reshape(points.shape)

    def _furthest(self, frames: NDArray[np.intp]) -> Complex:
        """Lines (N, M) of the delivered picture beyond which the flat one has no room, each broken from the next."""
        scales, focals = self._scales(frames)
        if self.projection == "cylinder":
            lines = np.array([-1 - 99j, -1 + 99j, NOWHERE, 1 - 99j, 1 + 99j, NOWHERE]) * FURTHEST_SEEN
        else:
            around = np.exp(1j * np.linspace(0, 2 * np.pi, CIRCLE))
            lines = np.append(2 * np.tan(FURTHEST_SEEN / 2) * around, NOWHERE)
        lines = np.concatenate([[NOWHERE], lines])[None] * (focals / scales)[:, None]
        return np.asarray(np.broadcast_to(lines, (len(frames), lines.shape[1])))

    def _scales(self, frames: NDArray[np.intp]) -> tuple[Floats, Floats]:
        """Half-diagonals of the flat picture at the source's scale for a px (N or 1), and focal lengths (N or 1)."""
        numbers, of = np.unique(frames[:1] if len(self.stage.stages) == 1 else frames, return_inverse=True)
        glasses = [self.stage.at(int(frame)) for frame in numbers]
        scales = np.array([glass.step for glass in glasses]) / self.size.half_diagonal
        return scales[of], np.array([glass.view.focal for glass in glasses])[of]


def _own_border(size: Size, projection: str) -> Complex:
    """The border of the delivered frame, px from its middle; of its corners alone where sides stay straight."""
    if projection == "straight":
        return as_complex(size.corners()[[0, 1, 2, 3, 0]]) - size.centre
    sides = [as_complex(side) - size.centre for side in size.sides(step=BORDER_STEP)]
    return np.concatenate([np.append(side, complex(NOWHERE, NOWHERE)) for side in sides])


def holds_frame(glass: LensStage) -> bool:
    """Whether the flat picture behind a projection has room for all of the delivered frame."""
    view, size = glass.view, glass.size
    corners = (size.corners() - (size.centre.real, size.centre.imag)) * (glass.step / size.half_diagonal)
    reach = np.abs(flat(view.projection, view.focal, corners)).max()
    return view.planar or bool(reach < view.focal * np.tan(FURTHEST_SEEN))


def _borders(stage: OpticsStage, first: int, count: int) -> Complex:
    if stage.steady or len(stage.stages) > 1:
        glasses = [stage.at(first + i) for i in range(1 if stage.steady else count)]
        return np.stack([_border_behind(glass, stage.dead) for glass in glasses])
    assert stage.rows is not None
    of = np.clip(first - stage.first + np.arange(count), 0, len(stage.rows) - 1)
    glass = replace(stage.stages[0], rows=stage.rows)
    borders = seen_borders(glass, of, BORDER_STEP)
    return borders if stage.dead is None else np.concatenate([borders, dead_borders(glass, stage.dead, of)], 1)


def _border_behind(glass: LensStage, dead: DeadEdge | None) -> Complex:
    """The border (M,) of what one frame saw."""
    border = seen_border(glass, BORDER_STEP)
    if dead is None:
        return border
    of = np.atleast_1d(0 if glass.rows is None else glass.rows.of)
    return np.concatenate([border, dead_borders(glass, dead, of)[0]])


def _nearest_around(curves: Complex) -> Floats:
    """How near curves (N, M) come to the middle in each direction (DIRECTIONS,); infinite where none does."""
    near = curves[~is_nowhere_complex(curves)]
    direction = np.rint(np.angle(near) * (DIRECTIONS / (2 * np.pi))).astype(np.intp) % DIRECTIONS
    nearest = np.full(DIRECTIONS, np.inf)
    np.minimum.at(nearest, direction, np.abs(near))
    return nearest


def in_parts(function: Callable[[slice], Floats], count: int) -> Floats:
    """What a function gives for `count` frames, worked out for some at a time, so that memory stays small."""
    return np.concatenate([function(slice(start, start + AT_A_TIME)) for start in range(0, max(1, count), AT_A_TIME)])


def _back(curves: Complex, homographies: Floats) -> Complex:
    return carried(curves, np.asarray(np.linalg.inv(homographies), np.float64))


def _part(windows: Floats | None, which: slice | NDArray[np.intp]) -> Floats | None:
    return windows if windows is None or len(windows) == 1 else windows[which]


def _grid(size: Size) -> Complex:
    """Points (P,) spread over a frame to its very border, px from its middle."""
    across, down = (np.linspace(-0.4995, 0.4995, n) for n in GRID)
    return np.asarray((size.width * across[None, :] + 1j * size.height * down[:, None]).ravel())


def _cells(size: Size) -> Complex:
    """Middles (P,) of equal cells of a frame, px from its middle."""
    across, down = ((np.arange(n) + 0.5) / n - 0.5 for n in CELLS)
    return np.asarray((size.width * across[None, :] + 1j * size.height * down[:, None]).ravel())
