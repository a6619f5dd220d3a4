"""Projections of the delivered picture, for fields of view that a flat picture cannot hold.

Points are offsets from the middle of the picture, half-diagonals, at the scale of its middle; `focal` is the focal
length in the same unit, one or one for each point. "straight" is the flat (rectilinear) picture that all others are
told by: "cylinder" keeps uprights straight and spreads what lies across by its angle (the cylindrical projection of
cartography), "stereographic" keeps small shapes (Snyder 1987, Map Projections: A Working Manual).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere

Floats = NDArray[np.float64]

LARGEST_TURN = np.pi / 2 - 1e-6


def flat(projection: str, focal: Floats | float, points: Floats) -> Floats:
    """Points (N, 2) of a projection on the flat picture; nowhere where that has no place for them."""
    if projection == "straight":
        return points
    x, y = points.T / focal
    if projection == "cylinder":
        turn = np.clip(x, -LARGEST_TURN, LARGEST_TURN)
        found = np.stack([np.tan(turn), y / np.cos(turn)], -1)
        beyond = np.abs(x) >= LARGEST_TURN
    else:
        square = (x * x + y * y) / 4
        found = np.stack([x, y], -1) / np.where(np.abs(1 - square) < 1e-9, 1e-9, 1 - square)[:, None]
        beyond = square >= 1
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
