"""Luma weights of the standard matrices (ITU-T H.273, table 4) and small conversions with them."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.chroma import chroma_place
from keen_horizon.core.media.stored import Plane, Tags

_WEIGHTS = {1: (0.2126, 0.0722), 9: (0.2627, 0.0593), 10: (0.2627, 0.0593)}
_BT601 = (0.299, 0.114)
CLIPPED = 0.01, 0.98  # of the coded range: beyond them a colour may have been cut off


def luma_weights(tags: Tags) -> tuple[float, float]:
    """Weights of red and blue in luma; untagged pictures are read as BT.601."""
    return _WEIGHTS.get(tags.matrix, _BT601)


def values_of(colour: str, depth: int, tags: Tags) -> tuple[int, int, int]:
    """Y, U, V of a #rrggbb colour in the given depth, matrix and range (ITU-T H.273, 8.3)."""
    r, g, b = (int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5))
    kr, kb = luma_weights(tags)
    y = kr * r + (1 - kr - kb) * g + kb * b
    u, v = (b - y) / (2 * (1 - kb)), (r - y) / (2 * (1 - kr))
    unit = 1 << (depth - 8)
    if tags.range == 2:
        top = (1 << depth) - 1
        return round(y * top), round(u * top + 128 * unit), round(v * top + 128 * unit)
    return round((16 + 219 * y) * unit), round((128 + 224 * u) * unit), round((128 + 224 * v) * unit)


def code_range(depth: int, tags: Tags | None) -> tuple[float, float, float]:
    """The code of black, and the range of luma's codes and of chroma's (ITU-T H.273, 8.3)."""
    unit, top = float(1 << (depth - 8)), float((1 << depth) - 1)
    full = tags is not None and tags.range == 2
    return (0.0, top, top) if full else (16 * unit, 219 * unit, 224 * unit)


def whole(values: NDArray[np.float32], depth: int) -> Plane:
    """The nearest codes of `depth` bits."""
    if depth == 8:
        return np.asarray(cv2.add(values, 0.0, dtype=cv2.CV_8U))
    return np.asarray(np.minimum(cv2.add(values, 0.0, dtype=cv2.CV_16U), (1 << depth) - 1))


def rgb_of(y: Plane, u: Plane, v: Plane, depth: int, tags: Tags | None) -> NDArray[np.float32]:
    """Planes of one size as R, G, B (rows, columns, 3), 0 ... 1 (ITU-T H.273, 8.3)."""
    return np.asarray(np.clip(np.stack(_rgb(y, u, v, depth, tags), -1), 0, 1), np.float32)


def _rgb(
    y: Plane | NDArray[np.float32], u: Plane, v: Plane, depth: int, tags: Tags | None
) -> tuple[NDArray[np.float32], ...]:
    """R, G and B of planes of one size; black is 0 and white 1, and colours may lie outside."""
    kr, kb = luma_weights(tags) if tags else _BT601
    unit = float(1 << (depth - 8))
    black, of_luma, of_chroma = code_range(depth, tags)
    luma = (y.astype(np.float32) - np.float32(black)) / np.float32(of_luma)
    blue, red = ((plane.astype(np.float32) - np.float32(128 * unit)) / np.float32(of_chroma) for plane in (u, v))
    r = luma + np.float32(2 * (1 - kr)) * red
    b = luma + np.float32(2 * (1 - kb)) * blue
    g = (luma - np.float32(kr) * r - np.float32(kb) * b) / np.float32(1 - kr - kb)
    return r, np.asarray(g, np.float32), b


def colours_where_chroma_is(
    planes: tuple[Plane, ...], depth: int, tags: Tags
) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """R, G, B (3, rows, columns) at the chroma's samples, and where (rows, columns) none is clipped."""
    luma, blue, red = planes
    there = luma_where_chroma_is(luma, blue.shape, tags.site)
    colours = np.stack(_rgb(there, blue, red, depth, tags))
    low, high = CLIPPED
    return colours, np.all((colours > low) & (colours < high), 0)


def luma_where_chroma_is(luma: Plane | NDArray[np.float32], shape: tuple[int, ...], site: int) -> NDArray[np.float32]:
    """A plane as fine as luma, averaged evenly round the places of chroma samples (rows, columns), `shape` of them."""
    if luma.shape == shape:
        return np.asarray(luma, np.float32)
    rows, columns = shape
    down, across = round(luma.shape[0] / rows), round(luma.shape[1] / columns)
    x, y = chroma_place(site, across, down)
    over, under = _even_kernel(across, x), _even_kernel(down, y)
    smooth = cv2.sepFilter2D(luma, cv2.CV_32F, over, under, borderType=cv2.BORDER_REPLICATE)
    there = smooth[int(y + 0.5) :: down, int(x + 0.5) :: across][:rows, :columns]
    beyond = rows - there.shape[0], columns - there.shape[1]  # the last chroma sample of an odd size
    return np.asarray(cv2.copyMakeBorder(there, 0, beyond[0], 0, beyond[1], cv2.BORDER_REPLICATE))


def _even_kernel(step: int, place: float) -> NDArray[np.float32]:
    """What averages samples round a place among `step` of them: at a sample, or in the middle between two.

    The latter's average stands at the second of both.
    """
    if step == 1:
        return np.ones(1, np.float32)
    between = place != int(place)
    return np.array([0.5, 0.5, 0.0] if between else [0.25, 0.5, 0.25], np.float32)


def to_bgr(y: Plane, u: Plane, v: Plane, tags: Tags) -> NDArray[np.uint8]:
    """8-bit limited-range planes of one size as BGR (rows, columns, 3)."""
    kr, kb = luma_weights(tags)
    luma = (y.astype(np.float32) - 16) / 219
    blue = luma + 2 * (1 - kb) * (u.astype(np.float32) - 128) / 224
    red = luma + 2 * (1 - kr) * (v.astype(np.float32) - 128) / 224
    green = (luma - kr * red - kb * blue) / (1 - kr - kb)
    return np.asarray(np.clip(np.stack([blue, green, red], -1) * 255 + 0.5, 0, 255), np.uint8)
