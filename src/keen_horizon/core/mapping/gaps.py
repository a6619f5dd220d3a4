"""Where the output has no picture: found on the border, counted on every pixel."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.sampling import Maps, SamplingMap

TOLERANCE_PX = 0.01


def border_overhang(sampling: SamplingMap, frame: int) -> float:
    """How far the output's border reaches outside the source, in display pixels; <= 0 when inside."""
    size = sampling.size
    found = sampling.source_points(frame, size.border(step=8))
    low = -0.5 - found
    high = found - (size.width - 0.5, size.height - 0.5)
    return float(max(low.max(), high.max()))


def gap_mask(maps: Maps, source: Size) -> NDArray[np.bool_]:
    """Output samples (rows, columns) whose point lies outside the source plane."""
    x, y = maps
    outside_x = (x < -0.5 - TOLERANCE_PX) | (x > source.width - 0.5 + TOLERANCE_PX)
    outside_y = (y < -0.5 - TOLERANCE_PX) | (y > source.height - 0.5 + TOLERANCE_PX)
    return np.asarray(outside_x | outside_y)
