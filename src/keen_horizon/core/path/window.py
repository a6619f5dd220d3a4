"""The output window seen in the source frame: what zoom it needs and where it leaves the picture.

All maps here are centred: coordinates have their origin in the middle of the frame. A correction S
moves points of the steadied frame into the source frame; the window is the frame shrunk by a zoom Z,
so src_from_out = S (1 / Z) and the enlargement of a frame is Z / |S|. A tilt U(q) comes between the two.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities, as_complex, as_points
from keen_horizon.core.geometry.tilt import middle_shift
from keen_horizon.core.lens.dead_border import Cuts

Floats = NDArray[np.float64]

ACROSS = np.radians(
    75.0
)  # from a corner's direction to a cut that it may reach: windows turn by less than what is left


def centred_corners(size: Size) -> NDArray[np.complex128]:
    """Outer corners (4,), clockwise from the top left, origin in the middle."""
    return as_complex(size.corners()) - size.centre


def window_zoom(
    correction: Similarities, size: Size, tilt: Complex | None = None, room: Floats | None = None
) -> Floats:
    """The smallest Z per frame (N,) whose window stays inside the source shrunk by `room` (N,); infinite if none does.

    With tilts (N,) the window's corners c lie at S U(q)(c / Z); inside is linear in 1 / Z all the same.
    """
    corners = centred_corners(size)
    tilt = np.zeros(len(correction), np.complex128) if tilt is None else tilt
    turned = correction.z[:, None] * corners[None, :]
    lean = (np.conj(tilt)[:, None] * corners).real
    moved = correction.z * middle_shift(tilt, size) + correction.t
    shrunk = np.ones((len(correction), 1)) if room is None else room[:, None]
    found = []
    for part, shift, half in (
        (turned.real, moved.real[:, None], size.width / 2 / shrunk),
        (turned.imag, moved.imag[:, None], size.height / 2 / shrunk),
    ):
        for sign in (1.0, -1.0):
            left = half - sign * shift
            reach = sign * part - left * lean
            found.append(np.where(reach > 1e-9, left / np.maximum(reach, 1e-9), np.where(left < 0, -1.0, np.inf)))
    inverse = np.min(np.concatenate(found, axis=1), axis=1)
    return np.where(inverse > 0, 1 / np.maximum(inverse, 1e-12), np.inf)


def containment_rows(size: Size, corners: Complex) -> tuple[Floats, Floats]:
    """Inequalities A (..., 8, 4) (Re z, Im z, Re t, Im t) <= b (8,) that keep window `corners` (..., 4) inside.

    Each corner is held by the two sides next to it: for turns below a right angle it reaches those first.
    """
    signs = centred_corners(size)
    across, down = np.broadcast_arrays(np.sign(signs.real), np.sign(signs.imag))
    x, y, none, one = corners.real, corners.imag, np.zeros(corners.shape), np.ones(corners.shape)
    sideways = np.stack([across * x, -across * y, across * one, none], -1)
    upwards = np.stack([down * y, down * x, none, down * one], -1)
    rows = np.stack([sideways, upwards], -2).reshape(*corners.shape[:-1], 8, 4)
    return rows, np.tile([size.width / 2, size.height / 2], 4)


def cut_rows(cuts: Cuts, corners: Complex) -> tuple[Floats, Floats]:
    """Inequalities A (m, 4) or (N, m, 4) (Re z, Im z, Re t, Im t) <= b (N or 1, m) that keep window `corners` (4,) or
    (N, 4) within cuts.

    Each corner is held by the cuts that lie on its side, within ACROSS of it.
    """
    toward = corners if corners.ndim == 1 else corners.mean(0)
    way = np.conj(cuts.normals.mean(0))[:, None] * (toward / np.abs(toward))
    cut, corner = np.nonzero(way.real > np.cos(ACROSS))
    normals = cuts.normals[:, cut]
    turned = np.conj(normals) * np.atleast_2d(corners)[:, corner]
    rows = np.stack(np.broadcast_arrays(turned.real, -turned.imag, normals.real, normals.imag), -1)
    return rows[0] if len(rows) == 1 else rows, cuts.reaches[:, cut]


def zoom_within(cuts: Cuts, corners: Complex, middle: complex) -> float:
    """The smallest zoom of one window with such corners (4,) about a place that lies within cuts; infinite if none."""
    normals = np.conj(cuts.normals)
    left = cuts.reaches - (normals * middle).real
    furthest = (normals[..., None] * corners).real.max(-1)
    if (left <= 0).any():
        return np.inf
    return float((furthest / left).max(initial=1.0))


def kept_areas(quads: Complex, size: Size) -> Floats:
    """The share of each source frame (N,) that the output shows, whose corners lie at `quads` (N, 4), centred."""
    frame = as_points(centred_corners(size)).astype(np.float32)
    shown = [cv2.intersectConvexConvex(frame, as_points(quad).astype(np.float32))[0] for quad in quads]
    return np.clip(np.array(shown) / (size.width * size.height), 0.0, 1.0)


def gap_areas(quads: Complex, size: Size) -> Floats:
    """The share of each output frame (N,) that has no picture of its own frame."""
    following = np.roll(quads, -1, axis=1)
    area = np.abs((quads.real * following.imag - quads.imag * following.real).sum(1)) / 2
    gaps = 1 - kept_areas(quads, size) * size.width * size.height / area
    return np.where(gaps > 1e-6, gaps, 0.0)
