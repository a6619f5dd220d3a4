"""Projections of the delivered picture, for fields of view that a flat picture cannot hold.

Points are offsets from the middle of the picture, half-diagonals, at the scale of its middle; `focal` is the focal
length in the same unit, one or one for each point. "straight" is the flat (rectilinear) picture that all others are
told by: "cylinder" keeps uprights straight and spreads what lies across by its angle (the cylindrical projection of
cartography), "stereographic" keeps small shapes (Snyder 1987, Map Projections: A Working Manual).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere

Floats = NDArray[np.float64]

LARGEST_TURN = np.pi / 2 - 1e-6


@dataclass(frozen=True)
class Unrolling:
    """How a projection becomes flat: the point (x, y), focal lengths from the middle, is seen in the direction
    (a x, b y, d), flat at (a x, b y) / d. The factors depend on one distance: on |x| where `across` only, else on
    the distance from the middle; below `reach`, beyond which nothing is seen.
    """

    across: bool
    reach: float
    factors: Callable[[Floats], tuple[Floats, Floats, Floats]]

    def distances(self, x: Floats, y: Floats) -> Floats:
        """What the factors depend on."""
        return np.asarray(np.abs(x) if self.across else np.hypot(x, y))


def _rolled(turn: Floats) -> tuple[Floats, Floats, Floats]:
    """The factors of a cylinder's picture, whose x is the angle."""
    return np.sinc(turn / np.pi), np.ones_like(turn), np.cos(turn)


def _seen_from_behind(away: Floats) -> tuple[Floats, Floats, Floats]:
    """The factors of a stereographic picture, which is seen from one radius behind the middle."""
    return np.ones_like(away), np.ones_like(away), 1 - away * away / 4


UNROLLINGS = {
    "cylinder": Unrolling(True, LARGEST_TURN, _rolled),
    "stereographic": Unrolling(False, 2.0, _seen_from_behind),
}


def flat(projection: str, focal: Floats | float, points: Floats) -> Floats:
    """Points (N, 2) of a projection on the flat picture; nowhere where that has no place for them."""
    if projection == "straight":
        return points
    unrolling = UNROLLINGS[projection]
    x, y = points.T / focal
    away = unrolling.distances(x, y)
    beyond = away >= unrolling.reach
    across, down, ahead = unrolling.factors(np.where(beyond, 0.0, away))
    found = np.stack([across * x, down * y], -1) / ahead[:, None]
    return np.asarray(np.where(beyond[:, None], np.copysign(NOWHERE, points), found * np.reshape(focal, (-1, 1))))


def projected(projection: str, focal: Floats | float, points: Floats) -> Floats:
    """The reverse of `flat`: points (N, 2) of the flat picture; what is nowhere stays so."""
    if projection == "straight":
        return points
    x, y = points.T / focal
    if projection == "cylinder":
        found = np.stack([np.arctan(x), y / np.hypot(1.0, x)], -1)
    else:
        found = np.stack([x, y], -1) * (2 / (1 + np.sqrt(1 + x * x + y * y)))[:, None]
    return np.asarray(np.where(is_nowhere(points)[:, None], points, found * np.reshape(focal, (-1, 1))))
