"""Edges all around, as the planes through the camera that they lie in."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.sphere.faces import FOCAL, MIDDLE, SIDE, Faces, face_rays

OFTEN, SHORT, EVERY = 2, 40, 8  # of so many frames first, which may be all there are, and of all others
CELLS = 8  # of a face, each way: edges are taken from all over it
PER_CELL = 3
LEAST = 12.0  # of the gradient, levels a px
STEEPEST = np.sin(np.radians(50.0))  # up or down: further on are sky and what the camera stands on
STRAIGHT = 0.9  # coherence of the structure tensor: 1 is an edge without a corner


def looked_for_edges(frame: int) -> bool:
    """Whether edges of the `frame`th frame count."""
    return frame % (OFTEN if frame < SHORT else EVERY) == 0


def seen_edges(pictures: NDArray[np.uint8], faces: Faces) -> NDArray[np.float32]:
    """Rays and normals (K, 6), in the camera: to straight, strong edges of a sphere's faces, and of the planes that
    those lie in.
    """
    found = []
    for face, picture in enumerate(pictures):
        points, across = _edges(picture, faces.shown[face])
        inside = (np.abs(points - MIDDLE) <= FOCAL).all(-1)
        here, along = points[inside], np.stack([-across[inside, 1], across[inside, 0]], -1)
        rays = face_rays(face, here)
        step = np.cross(rays, face_rays(face, here + along))
        edges = np.hstack([rays, step / np.linalg.norm(step, axis=-1, keepdims=True)])
        found.append(edges[np.abs(rays[:, 1]) < STEEPEST])
    return np.concatenate(found).astype(np.float32)


def _edges(picture: NDArray[np.uint8], shown: NDArray[np.uint8]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (K, 2) of the strongest straight edges of a face's cells, and their unit gradients (K, 2)."""
    across, down = _gradients(cv2.GaussianBlur(picture, (0, 0), 1.0))
    xx, yy, xy = (cv2.GaussianBlur(product, (0, 0), 3.0) for product in (across**2, down**2, across * down))
    both, apart = xx + yy, np.hypot(xx - yy, 2 * xy)
    strength = np.hypot(across, down)
    ridge = (strength > LEAST) & (apart > STRAIGHT * both) & (shown > 0)
    ridge &= strength >= cv2.dilate(strength, np.ones((3, 3), np.uint8))
    row, column = np.nonzero(ridge)
    cell = (row * CELLS // SIDE) * CELLS + column * CELLS // SIDE
    order = np.lexsort((-strength[row, column], cell))
    ordered = cell[order]
    rank = np.arange(len(order)) - np.searchsorted(ordered, ordered)
    kept = order[rank < PER_CELL]
    row, column = row[kept], column[kept]
    angle = 0.5 * np.arctan2(2 * xy[row, column], (xx - yy)[row, column])
    gradient = np.stack([np.cos(angle), np.sin(angle)], -1)
    places = np.stack([column, row], -1).astype(np.float64)
    sharp = np.hypot(*_gradients(picture))  # blur moves edges that are shaded on one side, as the sea's horizon is
    return places + gradient * _beside(sharp, places, gradient)[:, None], gradient


def _gradients(picture: NDArray[np.uint8]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Levels a px, to the right and down."""
    gray = picture.astype(np.float32)
    across, down = (cv2.Scharr(gray, cv2.CV_32F, *order, scale=1 / 32) for order in ((1, 0), (0, 1)))
    return np.asarray(across, np.float32), np.asarray(down, np.float32)


def _beside(
    strength: NDArray[np.float32], places: NDArray[np.float64], across: NDArray[np.float64]
) -> NDArray[np.float64]:
    """How far along their gradients (K, 2) edges lie beside the samples (K, 2) that they are strongest at, px."""
    if not len(places):
        return np.zeros(0)

    def at(step: float) -> NDArray[np.float64]:
        x, y = np.ascontiguousarray((places + step * across).T, np.float32)
        looked = cv2.remap(strength, x[None], y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(looked[0], np.float64)

    before, here, after = at(-1.0), at(0.0), at(1.0)
    bend = before - 2 * here + after
    return np.asarray(np.where(bend < 0, np.clip(0.5 * (before - after) / np.minimum(bend, -1e-9), -1, 1), 0.0))
