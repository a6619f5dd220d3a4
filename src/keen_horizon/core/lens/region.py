"""Where the straightened picture has something to show, frame by frame: a window may lie anywhere in it.

Where gaps are wanted round the straightened picture, it is the delivered frame itself. Windows are planes (N, 3, 3)
src_from_out of frames from clip number `first`, from the window to the straightened picture, px from the middle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.seen import carried, frame_shares
from keen_horizon.core.lens.straightening import seen_border, seen_borders

BORDER_STEP = 16
BOW = 1.0003  # between the points looked at, the border of what a lens saw bows by less
LARGEST_DEMAND = 99.0
GRID = (25, 15)
AT_A_TIME = 1000  # frames


@dataclass(frozen=True)
class SeenRegion:
    """What frames of `size` from clip number `first` show; `borders` (N or 1, M).

    `whole` tells whether all that the lens saw may be shown, not only what lies in the delivered frame.
    """

    stage: OpticsStage
    size: Size
    first: int
    borders: Complex
    whole: bool

    @staticmethod
    @kept_lately
    def of(stage: OpticsStage, size: Size, first: int, count: int) -> SeenRegion:
        """What `count` frames from clip number `first` show."""
        borders = _borders(stage, first, count)
        alone = borders if stage.rows is None else _borders(stage.with_rows(None), first, count)
        whole = bool((frame_shares(alone, size) >= 1 / BOW).all())
        own = as_complex(size.corners()[[0, 1, 2, 3, 0]]) - size.centre
        return SeenRegion(stage, size, first, borders if whole else own[None], whole)

    def demand(self, planes: Floats, frames: NDArray[np.intp]) -> Floats:
        """The smallest Z (N,) by which windows of frames (N,), clip numbering, must shrink to hold no gap."""
        return in_parts(lambda part: self._demand(planes[part], frames[part]), len(planes))

    def _demand(self, planes: Floats, frames: NDArray[np.intp]) -> Floats:
        borders = self.borders if len(self.borders) == 1 else self.borders[frames - self.first]
        seen = carried(borders, np.asarray(np.linalg.inv(planes), np.float64))
        bow = BOW if self.whole else 1.0
        return np.minimum(bow / np.maximum(frame_shares(seen, self.size), 1e-9), LARGEST_DEMAND)

    def gaps(self, planes: Floats, first: int) -> Floats:
        """The share (N,) of each window that has no picture, on a grid of its points."""
        open_ = np.zeros(len(planes))
        frames = first + np.arange(len(planes))
        short = np.flatnonzero(self.demand(planes, frames) > BOW)
        if len(short):
            grid = _grid(self.size)[None]

            def inside(part: slice) -> Floats:
                places = self.places(planes[short[part]], grid, frames[short[part]])
                return np.asarray(self._within(places).mean(1), np.float64)

            open_[short] = 1 - in_parts(inside, len(short))
        return open_

    def kept(self, planes: Floats, first: int) -> Floats:
        """The share (N,) of what the straightened frame shows that each window shows, one at most."""
        frames = first + np.arange(len(planes))
        return in_parts(lambda part: self._kept(planes[part], frames[part]), len(planes))

    def _kept(self, planes: Floats, frames: NDArray[np.intp]) -> Floats:
        grid = as_points(_grid(self.size) + self.size.centre)
        chosen = frames[:1] if self.stage.steady else frames
        every = np.tile(grid, (len(chosen), 1))
        straight = self.stage.each(np.repeat(chosen, len(grid)), every, lambda stage, part: stage.straighten(part))
        offsets = as_complex(straight).reshape(len(chosen), -1) - self.size.centre
        whole = self._within(offsets).mean(1)
        seen = self._within(carried(offsets, np.asarray(np.linalg.inv(planes), np.float64))).mean(1)
        return np.asarray(np.minimum(1.0, seen / np.maximum(whole, 1e-9)))

    def places(self, planes: Floats, points: Complex, frames: NDArray[np.intp]) -> Complex:
        """Where points (N or 1, P) of windows of frames (N,), clip numbering, lie in what is shown, from its middle."""
        flat_places = carried(points, planes)
        if not self.whole:
            return flat_places
        places = as_points((flat_places + self.size.centre).ravel()).reshape(*flat_places.shape, 2)
        of = np.repeat(frames, flat_places.shape[1])
        bent = self.stage.each(of, places.reshape(-1, 2), lambda stage, part: stage.points(part))
        return np.asarray(as_complex(bent.reshape(-1, 2)).reshape(flat_places.shape) - self.size.centre)

    def _within(self, points: Complex) -> NDArray[np.bool_]:
        """Whether points, px from the middle, lie in the frame."""
        return (np.abs(points.real) <= self.size.width / 2) & (np.abs(points.imag) <= self.size.height / 2)


def _borders(stage: OpticsStage, first: int, count: int) -> Complex:
    if stage.steady or len(stage.stages) > 1:
        glasses = [stage.at(first + i) for i in range(1 if stage.steady else count)]
        return np.stack([seen_border(glass, BORDER_STEP) for glass in glasses])
    assert stage.rows is not None
    of = np.clip(first - stage.first + np.arange(count), 0, len(stage.rows) - 1)
    return seen_borders(replace(stage.stages[0], rows=stage.rows), of, BORDER_STEP)


def in_parts(function: Callable[[slice], Floats], count: int) -> Floats:
    """What a function gives for `count` frames, worked out for some at a time, so that memory stays small."""
    return np.concatenate([function(slice(start, start + AT_A_TIME)) for start in range(0, max(1, count), AT_A_TIME)])


def _grid(size: Size) -> Complex:
    """Points (P,) spread over a frame, px from its middle."""
    across, down = (np.linspace(-0.4995, 0.4995, n) for n in GRID)
    return np.asarray((size.width * across[None, :] + 1j * size.height * down[:, None]).ravel())
