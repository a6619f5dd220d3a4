"""The output window seen in the source frame: what zoom it needs and where it leaves the picture.

All maps here are centred: coordinates have their origin in the middle of the frame. A correction S
moves points of the steadied frame into the source frame; the window is the frame shrunk by a zoom Z,
so src_from_out = S (1 / Z) and the enlargement of a frame is Z / |S|.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex

Floats = NDArray[np.float64]


def centred_corners(size: Size) -> NDArray[np.complex128]:
    """Outer corners (4,), clockwise from the top left, origin in the middle."""
    return as_complex(size.corners()) - size.centre


def window_zoom(correction: Similarities, size: Size) -> Floats:
    """The smallest Z per frame (N,) whose window stays inside the source; infinite when none does."""
    turned = correction.z[:, None] * centred_corners(size)[None, :]
    room = []
    for part, shift, half in (
        (turned.real, correction.t.real, size.width / 2),
        (turned.imag, correction.t.imag, size.height / 2),
    ):
        for sign in (1.0, -1.0):
            reach = sign * part
            left = (half - sign * shift)[:, None]
            room.append(np.where(reach > 1e-9, left / np.maximum(reach, 1e-9), np.where(left < 0, -1.0, np.inf)))
    inverse = np.min(np.concatenate(room, axis=1), axis=1)
    return np.where(inverse > 0, 1 / np.maximum(inverse, 1e-12), np.inf)


def containment_rows(size: Size, zoom: float) -> tuple[Floats, Floats]:
    """Inequalities A (8, 4) (Re z, Im z, Re t, Im t) <= b (8,) that keep the window inside.

    Each corner is held by the two sides next to it: for turns below a right angle it reaches those first.
    """
    rows, bounds = [], []
    for corner in centred_corners(size) / zoom:
        across, down = np.sign(corner.real), np.sign(corner.imag)
        rows.append([across * corner.real, -across * corner.imag, across, 0.0])
        bounds.append(size.width / 2)
        rows.append([down * corner.imag, down * corner.real, 0.0, down])
        bounds.append(size.height / 2)
    return np.array(rows), np.array(bounds)


def kept_areas(src_from_out: Similarities, size: Size) -> Floats:
    """The share of each source frame (N,) that the centred window shows."""
    frame = np.stack([centred_corners(size).real, centred_corners(size).imag], -1).astype(np.float32)
    total = size.width * size.height
    areas = np.empty(len(src_from_out))
    for i, quad in enumerate(src_from_out.apply(centred_corners(size))):
        window = np.stack([quad.real, quad.imag], -1).astype(np.float32)
        areas[i] = cv2.intersectConvexConvex(frame, window)[0] / total
    return np.clip(areas, 0.0, 1.0)


def gap_areas(src_from_out: Similarities, size: Size) -> Floats:
    """The share of each output frame (N,) that has no picture."""
    window = np.abs(src_from_out.z) ** 2
    gaps = 1 - kept_areas(src_from_out, size) / window
    return np.where(gaps > 1e-6, gaps, 0.0)
