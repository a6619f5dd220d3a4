"""Dead edges: where a hood, a filter or the image circle lets nothing through, and where the picture therefore ends.

Light arrives within a circle and on the near side of straight edges. Across the edge it goes from all to nothing over
its softness as a smooth step, half of it gone at the edge itself. How much of it makes a place count as picture is the
editor's choice, and moves where the picture ends.

All lengths are half-diagonals of the source frame, places offsets from its middle, x right and y down.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Complex = NDArray[np.complex128]

FURTHEST_SIDE = 3.0  # how far a straight edge is followed either way: beyond any frame
POINTS_ROUND = 720  # of a circle: between them it bows by 0.01 px of 1080p


@dataclass(frozen=True)
class DeadEdge:
    """`radius` of the circle about `centre`, None where there is none; `sides` are straight edges, each its outward
    normal's direction, radians clockwise from the right, and its distance from the frame's middle.
    """

    radius: float | None
    centre: complex = 0j
    sides: tuple[tuple[float, float], ...] = ()
    softness: float = 0.0

    compared_by_value: ClassVar[bool] = True  # see core.lately

    def room(self, places: Complex) -> Floats:
        """How far places lie inside the edge; negative outside."""
        room = np.full(places.shape, np.inf)
        if self.radius is not None:
            room = self.radius - np.abs(places - self.centre)
        for direction, distance in self.sides:
            room = np.minimum(room, distance - (np.exp(-1j * direction) * places).real)
        return room

    def light(self, places: Complex) -> Floats:
        """The share of light that arrives at places."""
        return smooth_step(self.room(places), self.softness)

    def moved(self, outwards: float) -> DeadEdge:
        """The same edge, further outwards everywhere."""
        radius = None if self.radius is None else self.radius + outwards
        return replace(self, radius=radius, sides=tuple((way, far + outwards) for way, far in self.sides))

    def where(self, least_light: float) -> DeadEdge:
        """The sharp edge within which at least such a share of the light arrives."""
        return replace(self.moved(-self.softness * _step_place(least_light)), softness=0.0)

    def curves(self) -> tuple[Complex, ...]:
        """Its circle, closed, and its sides, points (M,) each."""
        curves = []
        if self.radius is not None:
            curves.append(self.centre + self.radius * np.exp(1j * np.linspace(0, 2 * np.pi, POINTS_ROUND + 1)))
        along = 1j * np.linspace(-FURTHEST_SIDE, FURTHEST_SIDE, POINTS_ROUND)
        curves.extend(np.exp(1j * direction) * (distance + along) for direction, distance in self.sides)
        return tuple(curves)

    @property
    def largest_circle(self) -> float:
        """The radius of the largest circle about its centre that the edge leaves."""
        return float(self.room(np.array([self.centre]))[0])


def smooth_step(room: Floats, softness: float) -> Floats:
    """The share of light at places so far inside an edge: a cubic step, none to all over the softness."""
    share = np.clip(room / max(softness, 1e-9) + 0.5, 0.0, 1.0)
    return np.asarray(share**2 * (3 - 2 * share))


def _step_place(share: float) -> float:
    """Where, -0.5 to 0.5 of the softness inside the edge, the step has come to a share: its inverse."""
    return float(-np.sin(np.arcsin(1 - 2 * np.clip(share, 0.0, 1.0)) / 3))
