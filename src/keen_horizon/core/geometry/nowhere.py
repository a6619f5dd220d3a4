"""Places that are nowhere: what a map gives for a point that was not seen, and how that is told.

One value and one mask, in pixels and in half-diagonals alike. What lies just before a plane's horizon comes out at up
to a million half-diagonals (see `lens.perspective.LEAST_DEPTH`); NOWHERE stays beyond that in either unit of any
picture.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

NOWHERE = 1e15
BEYOND = 1e8


def is_nowhere(points: NDArray[np.floating]) -> NDArray[np.bool_]:
    """Whether points (..., 2) are nowhere, (...)."""
    return np.asarray(np.maximum(np.abs(points[..., 0]), np.abs(points[..., 1])) >= BEYOND)


def is_nowhere_complex(points: NDArray[np.complexfloating]) -> NDArray[np.bool_]:
    """The same of points x + iy."""
    return np.asarray(np.maximum(np.abs(points.real), np.abs(points.imag)) >= BEYOND)
