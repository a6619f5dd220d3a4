"""Pictures as files store them, for tests."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.media.colour import code_range, luma_weights, luma_where_chroma_is
from keen_horizon.core.media.stored import Tags


def stored(rgb: np.ndarray, depth: int, tags: Tags, chroma: str = "420") -> tuple[np.ndarray, ...]:
    """Planes of coded R, G, B, 0 ... 1."""
    red_weight, blue_weight = luma_weights(tags)
    red, green, blue = np.moveaxis(rgb, -1, 0)
    luma = red_weight * red + (1 - red_weight - blue_weight) * green + blue_weight * blue
    black, of_luma, of_chroma = code_range(depth, tags)
    differences = (blue - luma) / (2 * (1 - blue_weight)), (red - luma) / (2 * (1 - red_weight))
    down, across = {"420": (2, 2), "422": (1, 2), "444": (1, 1)}[chroma]
    shape = luma.shape[0] // down, luma.shape[1] // across
    parts = (luma_where_chroma_is(np.ascontiguousarray(plane), shape, tags.site) for plane in differences)
    codes = [black + of_luma * luma, *((128 << (depth - 8)) + of_chroma * part for part in parts)]
    return tuple(np.rint(plane).astype(np.uint8 if depth == 8 else np.uint16) for plane in codes)
