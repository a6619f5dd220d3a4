"""The lens as a stage of the sampling map, and how much of the straightened picture the frame shows.

Straightening pulls the corners out, so something must be chosen: a window without a gap, all that was seen, or
something between. `canvas` runs from 0, no gap, to 1, nothing lost, by steps of like ratio.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens, radial_table
from keen_horizon.core.treatment import LensSettings, Optics

Floats = NDArray[np.float64]

WIDEST = 4.0
SMALLEST = 0.05
HALVINGS = 30
SAFETY = 1.001
EDGE_PX = 1e-6


@dataclass(frozen=True)
class LensStage:
    """From the straightened frame to the bent source, both of display size `size`.

    `step` is straightened half-diagonals, at the source's scale in the middle, for one of the frame: above 1 the
    middle is shown smaller than it was shot.
    """

    lens: Lens
    size: Size
    step: float

    def points(self, frame: int, points: Floats) -> Floats:
        """Straightened points (N, 2) in the source, the same for every frame."""
        return self.lens.bend(self._scaled(points, self.step), self.size)

    def matrix(self, frame: int) -> None:
        """A lens is no plane transform."""
        return None

    def straighten(self, points: Floats) -> Floats:
        """Source points (N, 2) in the straightened frame; very far away where the lens folds over."""
        return self._scaled(self.lens.straighten(points, self.size), 1 / self.step)

    def _scaled(self, points: Floats, scale: float) -> Floats:
        middle = np.array([self.size.centre.real, self.size.centre.imag])
        return np.asarray((points - middle) * scale + middle)


def optics_stage(optics: Optics, size: Size) -> LensStage | None:
    """The stage of a treatment's optics; None where no lens is set."""
    if optics.lens is None:
        return None
    return lens_stage(lens_of(optics.lens), size, optics.lens.canvas)


def enlargement(optics: Optics, size: Size) -> float:
    """By how much the delivered picture is larger, so that its middle keeps the source's resolution."""
    stage = optics_stage(optics, size)
    return max(1.0, stage.step) if stage is not None and optics.lens is not None and optics.lens.enlarge else 1.0


def lens_of(settings: LensSettings) -> Lens:
    """The lens that settings describe."""
    centre = complex(settings.centre_x, settings.centre_y)
    return Lens(settings.family, settings.coefficients, centre, settings.squeeze, settings.p1, settings.p2)


@lru_cache(maxsize=128)
def lens_stage(lens: Lens, size: Size, canvas: float) -> LensStage:
    """The stage of a lens for a choice of canvas, 0 (no gap) to 1 (nothing lost)."""
    filled = fill_step(lens, size)
    if canvas <= 0:
        return LensStage(lens, size, filled)
    return LensStage(lens, size, float(filled * (max(filled, keep_step(lens, size)) / filled) ** canvas))


@lru_cache(maxsize=128)
def fill_step(lens: Lens, size: Size) -> float:
    """The largest step without a gap, looked for on every pixel of the border and made 0.1 % smaller."""
    coarse = _largest(lens, size, size.border(step=16), SMALLEST, WIDEST)
    return _largest(lens, size, size.border(), coarse * 0.97, coarse) / SAFETY


def keep_step(lens: Lens, size: Size) -> float:
    """The smallest step that shows all of the source that can be straightened, four at most."""
    half = np.array([size.width, size.height]) / 2
    middle = np.array([size.centre.real, size.centre.imag])
    reach = np.sqrt(radial_table(lens)[0]) * size.half_diagonal
    seen = lens.straighten(size.border(step=4), size) - middle
    far = np.hypot(*seen.T)
    seen = seen * np.minimum(1.0, reach / np.maximum(far, 1e-9))[:, None]
    return float(min(WIDEST, (np.abs(seen) / half).max() * SAFETY))


def _largest(lens: Lens, size: Size, border: Floats, low: float, high: float) -> float:
    """The largest step between `low`, which has no gap, and `high`, by halving."""
    for _ in range(HALVINGS):
        if high - low < 1e-6:
            break
        middle = (low + high) / 2
        found = LensStage(lens, size, middle).points(0, border)
        inside = (found >= -0.5).all() and (found <= (size.width - 0.5, size.height - 0.5)).all()
        low, high = (middle, high) if inside else (low, middle)
    return low


def kept_area(stage: LensStage) -> float:
    """The share of the source that the frame shows, by a grid of its points."""
    size = stage.size
    across, down = (np.linspace(-0.5, side - 0.5, n) for side, n in ((size.width, 161), (size.height, 91)))
    x, y = np.meshgrid(across, down)
    found = stage.straighten(np.stack([x.ravel(), y.ravel()], -1))
    shown = (found >= -0.5 - EDGE_PX).all(1) & (found <= (size.width - 0.5 + EDGE_PX, size.height - 0.5 + EDGE_PX)).all(
        1
    )
    return float(shown.mean())
