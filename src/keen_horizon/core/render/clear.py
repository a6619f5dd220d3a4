"""Coloured haze taken from planes that are ready to be written, at the resolution that their chroma has."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.glass.haze import Haze, places
from keen_horizon.core.media.colour import code_range, luma_where_chroma_is
from keen_horizon.core.media.stored import Plane, Tags


def cleared(planes: list[Plane], haze: Haze, depth: int, tags: Tags) -> list[Plane]:
    """Y, U, V without the haze; `tags` tell the site that they are written with."""
    luma, blue, red = planes
    _, of_luma, of_chroma = code_range(depth, tags)
    middle = np.float32(128 << (depth - 8))
    there = luma_where_chroma_is(luma, blue.shape, tags.site) / np.float32(of_luma)
    kernel = _kernel(luma.shape[1], luma.shape[1] / blue.shape[1], luma.shape[0] / blue.shape[0])
    contrast = cv2.dilate(there, kernel) - cv2.erode(there, kernel)
    differences = [plane.astype(np.float32) - middle for plane in (blue, red)]
    kept = haze.kept(contrast, *(part / np.float32(of_chroma) for part in differences))
    colours = (np.rint(part * kept + middle).astype(blue.dtype) for part in differences)
    return [luma, *colours]


def _kernel(width: int, across: float, down: float) -> NDArray[np.uint8]:
    """The places that are looked at, in samples that are `across` and `down` pixels of the picture apart."""
    around = places(width)
    columns, rows = np.rint(around.real / across).astype(int), np.rint(around.imag / down).astype(int)
    kernel = np.zeros((2 * abs(rows).max() + 1, 2 * abs(columns).max() + 1), np.uint8)
    kernel[rows + abs(rows).max(), columns + abs(columns).max()] = 1
    return kernel
