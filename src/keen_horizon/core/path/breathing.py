"""A zoom that breathes: at every frame enough, changing slowly, and never more than the frames near ask.

The smallest curve above the demand whose slope is bounded is the maximum over cones,
z(n) = max_m demand(m) - rate |n - m|. Its corners would be seen, so the demand is first widened by half
a second to either side and the curve then averaged over that second: the average of values that are all
enough for a frame is enough for it, and averaging raises no slope.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from keen_horizon.core.treatment.edges import Edges

Floats = NDArray[np.float64]

ROUNDING_S = 0.5
SAFETY = 1 + 1e-7


def window_shrink(demand: Floats, edges: Edges, rate: float) -> Floats:
    """What the window is shrunk by (N,) so that it holds no gap: by one figure, or breathing."""
    if edges.zoom == "breathing" and edges.way == "fill":
        return breathing_zoom(demand, edges.zoom_rate, rate) * SAFETY
    return np.full(len(demand), max(1.0, float(demand.max())) * SAFETY)


def breathing_zoom(demand: Floats, rate_per_second: float, frames_per_second: float) -> Floats:
    """The zoom (N,), at least `demand` (N,) and at least 1, changing by at most the rate."""
    reach = max(1, round(ROUNDING_S * frames_per_second))
    widened = maximum_filter1d(np.maximum(demand, 1.0), 2 * reach + 1, mode="nearest")
    slope = rate_per_second / frames_per_second
    ramp = slope * np.arange(len(demand))
    rising = np.maximum.accumulate(widened + ramp) - ramp
    falling = (np.maximum.accumulate((widened + ramp[::-1])[::-1]) - ramp)[::-1]
    cones = np.pad(np.maximum(rising, falling), reach, mode="edge")
    kernel = np.bartlett(2 * reach + 3)[1:-1]
    return np.asarray(np.convolve(cones, kernel / kernel.sum(), "valid"))
