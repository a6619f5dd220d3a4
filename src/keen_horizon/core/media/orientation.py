"""Rotation flags: frames are turned upright as they are read, so nothing else needs to know."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def quarter_turns(frame: Any) -> int:
    """Quarter turns anticlockwise (0-3) that make a decoded frame upright."""
    turns: int = round(frame.rotation / 90) % 4
    return turns


def upright(plane: NDArray[Any], turns: int) -> NDArray[Any]:
    """Turn one plane upright; contiguous, as the resampler wants it."""
    return np.ascontiguousarray(np.rot90(plane, turns)) if turns else plane
