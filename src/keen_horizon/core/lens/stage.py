"""The lens as a stage of the frame map, and how much of the straightened picture the frame shows.

Straightening pulls the corners out, so something must be chosen: a window without a gap, all that was seen, or
something between. `canvas` runs from 0, no gap, to 1, nothing lost, by steps of like ratio.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, as_complex
from keen_horizon.core.glass.shutter import RowMotion
from keen_horizon.core.lens.lens import Lens, straight_reach
from keen_horizon.core.lens.perspective import through
from keen_horizon.core.lens.projection import flat, projected
from keen_horizon.core.lens.seen import frame_shares

Floats = NDArray[np.float64]

WIDEST = 4.0
SMALLEST = 0.05
SAFETY = 1.001
EDGE_PX = 1e-6
RIM = 360  # points round the circle that a lens can be undone within
BORDER_STEP = 8  # pixels; between them a straightened border bows by hundredths of a pixel
USUAL_FOCAL = 1.2  # half-diagonals, where nothing tells it: about 80 degrees from corner to corner
ROW_ROUNDS = 2  # a row's motion moves the row that is read: each round leaves a twentieth of that and less, 0.005 px
NO_TURN = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)


@dataclass(frozen=True)
class View:
    """How the straightened picture is looked at: a `homography` from the delivered to the flat straightened picture,
    row by row (see core.lens.perspective), and the delivered picture's projection with its focal length.
    """

    homography: tuple[float, ...] = NO_TURN
    projection: str = "straight"
    focal: float = USUAL_FOCAL

    @property
    def planar(self) -> bool:
        """Whether it is a homography."""
        return self.projection == "straight"

    @cached_property
    def matrix(self) -> Floats:
        """The homography (3, 3)."""
        return np.array(self.homography, np.float64).reshape(3, 3)

    def to_flat(self, points: Floats) -> Floats:
        """Delivered points (N, 2), half-diagonals from the middle, on the flat straightened picture."""
        points = flat(self.projection, self.focal, points)
        return points if self.homography == NO_TURN else through(self.matrix, points)

    def from_flat(self, points: Floats) -> Floats:
        """The reverse of `to_flat`; what is nowhere stays so."""
        if self.homography != NO_TURN:
            points = through(np.asarray(np.linalg.inv(self.matrix), np.float64), points)
        return projected(self.projection, self.focal, points)


@dataclass(frozen=True)
class LensStage:
    """From the straightened frame to the bent source, both of display size `size`.

    `step` is straightened half-diagonals, at the source's scale in the middle, for one of the frame: above 1 the
    middle is shown smaller than it was shot. `rows`, where there are any, tell how a rolling shutter's rows moved the
    straightened picture against the middle row's moment: that is undone, and the source's place decides the row.
    """

    lens: Lens
    size: Size
    step: float
    view: View = View()
    rows: RowMotion | None = None

    def points(self, points: Floats) -> Floats:
        """Straightened points (N, 2) in the source."""
        straight = self._pixels(self.view.to_flat(self._offsets(points) * self.step))
        places = self.lens.bend(straight, self.size)
        for _ in range(ROW_ROUNDS if self.rows is not None else 0):
            assert self.rows is not None
            places = self.lens.bend(self.rows.read(straight, self.rows.shares(places)), self.size)
        return places

    def straighten(self, points: Floats) -> Floats:
        """Source points (N, 2) in the straightened frame; nowhere where the lens folds over."""
        return self.shown(self.at_middle_row(points, self.lens.straighten(points, self.size)))

    def shown(self, straight: Floats) -> Floats:
        """Points (N, 2) of the flat straightened picture, px at the source's scale, in the straightened frame."""
        return self._pixels(self.view.from_flat(self._offsets(straight)) / self.step)

    def at_middle_row(self, points: Floats, straight: Floats) -> Floats:
        """Source points (N, 2) that the lens alone puts at `straight`, where they lay at the middle row's moment."""
        return straight if self.rows is None else self.rows.unread(straight, self.rows.shares(points))

    def turned(self, homography: Floats) -> LensStage:
        """The same behind a camera turned by a homography (3, 3) on px from the flat delivered picture's middle."""
        scale = np.diag([self.step / self.size.half_diagonal, self.step / self.size.half_diagonal, 1.0])
        whole = self.view.matrix @ scale @ homography @ np.linalg.inv(scale)
        return replace(self, view=replace(self.view, homography=tuple((whole / whole[2, 2]).ravel().tolist())))

    @property
    def camera(self) -> Floats:
        """From rays, x to the right, y down, z ahead, to the flat straightened picture, half-diagonals: K (3, 3)."""
        focal, centre = self.view.focal, self.lens.centre
        return np.array([[focal * self.lens.squeeze, 0, centre.real], [0, focal, centre.imag], [0, 0, 1.0]])

    def rays(self, points: Floats) -> Floats:
        """Source points (N, 2) as unit rays (N, 3) of a camera whose focal length the view tells."""
        straight = self.at_middle_row(points, self.lens.straighten(points, self.size))
        flat_points = np.column_stack([self._offsets(straight), np.ones(len(points))])
        rays = flat_points @ np.linalg.inv(self.camera).T
        return np.asarray(rays / np.linalg.norm(rays, axis=1, keepdims=True))

    @property
    def size_of_px(self) -> float:
        """The angle, radians, that a pixel has in the middle of the source."""
        middle = self.rays(self._middle + [[0.0, 0.0], [1.0, 0.0]])
        return float(np.linalg.norm(middle[1] - middle[0]))

    @property
    def matrix(self) -> Floats | None:
        """The map as a homography (3, 3) on pixels; None where it is none."""
        if not (self.lens.plain and self.view.planar) or self.rows is not None:
            return None
        h, middle = self.size.half_diagonal, self.size.centre
        pixels = np.array([[h, 0, middle.real], [0, h, middle.imag], [0, 0, 1]])
        return np.asarray(pixels @ self.view.matrix @ np.diag([self.step, self.step, 1.0]) @ np.linalg.inv(pixels))

    def _offsets(self, points: Floats) -> Floats:
        return np.asarray((points - self._middle) / self.size.half_diagonal)

    def _pixels(self, offsets: Floats) -> Floats:
        return np.asarray(offsets * self.size.half_diagonal + self._middle)

    @property
    def _middle(self) -> Floats:
        return np.array([self.size.centre.real, self.size.centre.imag])


def lens_stage(lens: Lens, size: Size, canvas: float, view: View = View()) -> LensStage:
    """The stage of a lens for a choice of canvas, 0 (no gap) to 1 (nothing lost)."""
    filled = fill_step(lens, size, view)
    kept = keep_step(lens, size, view) if canvas > 0 else filled
    return LensStage(lens, size, step_between(filled, kept, canvas), view)


def step_between(filled: float, kept: float, canvas: float) -> float:
    """The step for a canvas between 0, `filled`, and 1, `kept`."""
    return float(filled * (max(filled, kept) / filled) ** max(0.0, canvas))


@lru_cache(maxsize=4096)
def fill_step(lens: Lens, size: Size, view: View = View()) -> float:
    """The largest step without a gap, by a fine border, made 0.1 % smaller; SMALLEST at least."""
    border = seen_border(LensStage(lens, size, 1.0, view))
    nearest = float(frame_shares(border[None], size)[0])
    return float(np.clip(nearest / SAFETY, SMALLEST, WIDEST))


def seen_border(stage: LensStage, step: int = BORDER_STEP) -> Complex:
    """The border (M,) of what was seen, in the straightened picture, px from its middle.

    It is the source's border and the circle up to which the lens can be undone; points that are nowhere break it.
    """
    of = 0 if stage.rows is None else stage.rows.of
    return np.asarray(seen_borders(stage, np.atleast_1d(of), step)[0])


def seen_borders(stage: LensStage, of: NDArray[np.intp], step: int = BORDER_STEP) -> Complex:
    """The same (N, M) for the frames `of` (N,) that the stage's rows know, all seen through one lens."""
    size = stage.size
    middle = np.array([size.centre.real, size.centre.imag])
    source, straight = _source_border(size, step), _straight_border(stage.lens, size, step)
    if stage.rows is not None:
        stage = replace(stage, rows=stage.rows.whose(np.repeat(of, len(source))))
    every = stage.at_middle_row(np.tile(source, (len(of), 1)), np.tile(straight, (len(of), 1)))
    border = as_complex(stage.shown(every) - middle).reshape(len(of), -1)
    corners = np.cumsum([len(side) for side in size.sides(step=step)[:-1]])
    border = np.insert(border, corners, complex(NOWHERE, NOWHERE), axis=1)
    reach = straight_reach(stage.lens) * size.half_diagonal * min(1.0, stage.lens.squeeze)
    if np.hypot(*(straight - middle).T).max() > 0.9 * reach:
        rim = as_complex(_rim(stage) - middle)
        closed = np.concatenate([[complex(NOWHERE, NOWHERE)], rim, rim[:1]])
        border = np.concatenate([border, np.broadcast_to(closed, (len(of), len(closed)))], axis=1)
    return np.asarray(border)


@lru_cache(maxsize=64)
def _source_border(size: Size, step: int) -> Floats:
    return size.border(step=step)


@lru_cache(maxsize=64)
def _straight_border(lens: Lens, size: Size, step: int) -> Floats:
    return lens.straighten(_source_border(size, step), size)


@lru_cache(maxsize=4096)
def keep_step(lens: Lens, size: Size, view: View = View()) -> float:
    """The smallest step that shows all of the source that can be straightened, four at most."""
    border = lens.straighten(size.border(step=4), size)
    reach = straight_reach(lens) * size.half_diagonal
    middle = np.array([size.centre.real, size.centre.imag])
    far = np.hypot(*(border - middle).T)
    within = (border - middle) * np.minimum(1.0, reach / np.maximum(far, 1e-9))[:, None] / size.half_diagonal
    seen = view.from_flat(within) * size.half_diagonal + middle
    return float(min(WIDEST, _shares(seen, size).max() * SAFETY))


def _rim(stage: LensStage) -> Floats:
    """The frame's points (RIM, 2) of the circle up to which the lens can be undone."""
    around = np.exp(1j * np.linspace(0, 2 * np.pi, RIM, endpoint=False)) * straight_reach(stage.lens)
    lens, size = replace(stage.lens, p1=0.0, p2=0.0), stage.size
    offset = around.real * lens.squeeze + 1j * around.imag + lens.centre
    flat_points = np.stack([offset.real, offset.imag], -1)
    shown = stage.view.from_flat(flat_points) * (size.half_diagonal / stage.step)
    return np.asarray(shown + (size.centre.real, size.centre.imag))


def _shares(points: Floats, size: Size) -> Floats:
    """How large the frame, about its middle, must be to reach points (N, 2): 1 for its own border."""
    offsets = (points - (size.centre.real, size.centre.imag)) / (size.width / 2, size.height / 2)
    return np.asarray(np.abs(offsets).max(1))


def kept_area(stage: LensStage) -> float:
    """The share of the source that the frame shows, by a grid of its points."""
    size = stage.size
    across, down = (np.linspace(-0.5, side - 0.5, n) for side, n in ((size.width, 161), (size.height, 91)))
    x, y = np.meshgrid(across, down)
    found = stage.straighten(np.stack([x.ravel(), y.ravel()], -1))
    low, high = -0.5 - EDGE_PX, (size.width - 0.5 + EDGE_PX, size.height - 0.5 + EDGE_PX)
    return float(((found >= low) & (found <= high)).all(1).mean())
