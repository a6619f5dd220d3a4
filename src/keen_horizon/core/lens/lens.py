"""A lens: where a point of the bent source lies in the straightened picture, and back.

Both pictures have the frame's own size; coordinates are pixels of the upright frame with square pixels. The
straightened picture has the source's scale at the lens's centre.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.families import FAMILIES, Family
from keen_horizon.core.geometry.nowhere import NOWHERE
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, as_complex, as_points

Floats = NDArray[np.float64]

STRAIGHT_REACH = 6.0
BEYOND = 1.15  # the table goes on past the frame's corners, so that a mesh over the frame has neighbours
TABLE = 32768
FULL_FRAME_HALF_DIAGONAL_MM = 21.633


@dataclass(frozen=True)
class Lens:
    """A family's coefficients `k`, and the centre as an offset from the middle of the frame, half-diagonals.

    `squeeze` is how much wider than tall a circle round the centre is in the source (anamorphic); `p1`, `p2`
    are the decentring coefficients of the polynomial (Brown 1966), which the other families have not.
    """

    family: str
    k: tuple[float, ...]
    centre: complex = 0j
    squeeze: float = 1.0
    p1: float = 0.0
    p2: float = 0.0

    @property
    def kind(self) -> Family:
        """The family."""
        return FAMILIES[self.family]

    @property
    def plain(self) -> bool:
        """Whether it bends nothing."""
        return not (any(self.k) or self.p1 or self.p2)

    @property
    def fold(self) -> float:
        """The source radius, half-diagonals, up to which the lens can be undone."""
        return self.kind.fold(np.array(self.k)) if any(self.k) else np.inf

    def straightened_radius(self, radius: Floats) -> Floats:
        """r / D(r) of source radii, half-diagonals; infinite past the fold."""
        inside = radius < self.fold
        depth = self.kind.depth(np.where(inside, radius, 0.0), np.array(self.k))
        return np.asarray(np.where(inside & (depth > 1e-9), radius / np.maximum(depth, 1e-9), np.inf))

    def straighten(self, points: Floats, size: Size) -> Floats:
        """Source points (N, 2) in the straightened picture; nowhere where the lens folds over."""
        u = self.offsets(as_complex(points), size)
        w = self._undone(u)
        if self.p1 or self.p2:
            for _ in range(20):
                w = self._undone(u - self._decentred(w))
        return self.places(w, size)

    def bend(self, points: Floats, size: Size) -> Floats:
        """Points (N, 2) of the straightened picture in the source; nowhere where nothing was seen."""
        if self.plain:
            return points
        w = self.offsets(as_complex(points), size)
        reach, ratios = radial_table(self)
        place = np.minimum(np.abs(w) * ((TABLE - 1) / reach), TABLE - 0.5)
        index = place.astype(np.int32)
        ratio = ratios[index]
        u = w * (ratio + (place - index) * (ratios[index + 1] - ratio))
        if self.p1 or self.p2:
            u = u + self._decentred(w)
        return self.places(u, size)

    def angle(self, radius: float, focal: float | None = None) -> float | None:
        """The angle from the axis, radians, of a source radius.

        Fisheyes tell it; others need their focal length, half-diagonals. None where it is not known.
        """
        if not self.kind.angular or self.k[0] <= 0:
            return float(np.arctan(self.straightened_radius(np.array(radius)) / focal)) if focal else None
        depth = float(self.kind.depth(np.array(radius), np.array(self.k)))
        return float(np.arctan2(radius * np.sqrt(self.k[0]), depth))

    def _undone(self, u: Complex) -> Complex:
        radius = np.abs(u)
        straight = np.minimum(self.straightened_radius(radius), NOWHERE)
        return np.asarray(u * np.where(radius > 1e-12, straight / np.maximum(radius, 1e-12), 1.0))

    @property
    def decentring(self) -> Floats:
        """What x^2, xy and y^2 of an offset from the centre move it by, across and down: (2, 3)."""
        return np.array([[3 * self.p2, 2 * self.p1, self.p2], [self.p1, 2 * self.p2, 3 * self.p1]])

    def _decentred(self, w: Complex) -> Complex:
        x, y = w.real, w.imag
        across, down = self.decentring @ np.stack([x * x, x * y, y * y])
        return np.asarray(across + 1j * down)

    def offsets(self, points: Complex, size: Size) -> Complex:
        """Points as offsets from the lens's centre, half-diagonals, a circle of the lens a circle."""
        offset = np.asarray((points - size.centre) * (1 / size.half_diagonal) - self.centre)
        offset.real /= self.squeeze
        return offset

    def places(self, metric: Complex, size: Size) -> Floats:
        """Such offsets (N,) as points (N, 2)."""
        offset = metric.copy()
        offset.real *= self.squeeze
        return as_points((offset + self.centre) * size.half_diagonal + size.centre)


NO_LENS = Lens("division", (0.0,))


@lru_cache(maxsize=4096)
def straight_reach(lens: Lens) -> float:
    """The straightened radius, half-diagonals, up to which a lens is undone.

    It takes in all that a frame shows, or all that can be undone, six half-diagonals at most.
    """
    return float(_curve(lens)[1][-1])


def _curve(lens: Lens) -> tuple[Floats, Floats]:
    """Source radii and their straightened radii, as far as the lens is undone."""
    furthest = BEYOND * (1 + abs(lens.centre)) / min(1.0, lens.squeeze)
    radius = np.linspace(0, min(furthest, lens.fold * (1 - 1e-9)), 4096)
    straight = lens.straightened_radius(radius)
    usable = straight <= STRAIGHT_REACH
    return radius[usable], straight[usable]


@lru_cache(maxsize=64)
def radial_table(lens: Lens) -> tuple[float, Floats]:
    """How far the table reaches, a straightened radius, and source radius over straightened radius.

    The ratio stands at TABLE even steps of that radius; what lies beyond is far outside the source.
    """
    radius, straight = _curve(lens)
    reach = float(straight[-1])
    wanted = np.linspace(0, reach, TABLE)
    found = np.interp(wanted, straight, radius)
    for _ in range(3):
        near = 1e-6
        slope = (lens.straightened_radius(found + near) - lens.straightened_radius(np.abs(found - near))) / (2 * near)
        step = (lens.straightened_radius(found) - wanted) / np.maximum(slope, 1e-3)
        found = np.clip(np.where(np.isfinite(step), found - step, found), 0, radius[-1])
    ratios = np.where(wanted > 0, found / np.where(wanted > 0, wanted, 1.0), 1.0)
    return reach, np.append(ratios, [NOWHERE, NOWHERE])


def fields_of_view(lens: Lens, size: Size, focal: float | None = None) -> tuple[float, float, float] | None:
    """Horizontal, vertical and diagonal field of view, degrees; None where it is not known, see `Lens.angle`."""
    half = np.array([size.width / 2, size.height / 2, size.half_diagonal]) / size.half_diagonal
    angles = [lens.angle(float(radius), focal) for radius in half / (lens.squeeze, 1.0, 1.0)]
    if any(angle is None for angle in angles):
        return None
    across, down, corner = (2 * float(np.degrees(angle or 0.0)) for angle in angles)
    return across, down, corner


def equivalent_focal_length(diagonal_deg: float) -> float:
    """The focal length, mm, that sees a diagonal field of view straight on a 36 x 24 mm frame; below 180 degrees."""
    return float(FULL_FRAME_HALF_DIAGONAL_MM / np.tan(np.radians(min(diagonal_deg, 179.0) / 2)))


def fisheye_of(family: str, diagonal_deg: float) -> Lens:
    """The one-figure fisheye that sees this field of view from corner to corner."""
    half = np.radians(diagonal_deg) / 2
    radius = {"equidistant": half, "equisolid": 2 * np.sin(half / 2), "stereographic": 2 * np.tan(half / 2)}[family]
    return Lens(family, (float(radius**2),))
