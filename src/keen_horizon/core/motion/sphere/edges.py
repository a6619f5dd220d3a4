"""Edges all around, as the planes through the camera that they lie in."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.motion.sphere.faces import FOCAL, MIDDLE, WIDEST, Faces, face_rays
from keen_horizon.core.motion.tracking import Gray

Floats = NDArray[np.float64]
Gradients = NDArray[np.float32]

OFTEN, SHORT, EVERY = 4, 40, 12  # of so many frames first, which may be all there are, and of all others
FINER, FINE = 2, 1.5  # than faces that points are followed on, where a sphere is so many times as wide as those need
AROUND = 4  # of the faces; on those above and below hardly anything is as low as is looked
CELLS = 8  # of a face, each way: edges are taken from all over it
PER_CELL = 3
LEAST = 12.0  # of the gradient, levels a px
STEEPEST = np.sin(np.radians(50.0))  # up or down: further on are sky and what the camera stands on
STRAIGHT = 0.9  # coherence of the structure tensor: 1 is an edge without a corner
NEARBY, NEARBY_SPREAD = (11, 11), 1.5  # samples that it is averaged over, two px apart
REACHES = (6, 18, 40)  # px that an edge is followed either way: first nearby, then as far as it is straight
STRIDE, LOOKS = 2, 10  # px at least from one look to the next, and how many at most either way
ASIDE = (-1.5, -1.0, -0.5, 0.0, 0.5, 1.0, 1.5)  # px that it is looked for beside the line
GOES_ON = 0.4  # of LEAST: what an edge's gradient may sink to
FAR_PX = 0.5  # beside a straight line: no part of it
ENOUGH = 0.6  # of the looks that must lie on the line
FITS = 4


def looked_for_edges(frame: int) -> bool:
    """Whether edges of the `frame`th frame count."""
    return frame % (OFTEN if frame < SHORT else EVERY) == 0


def edge_faces(sphere: Sphere) -> Faces:
    """The faces that edges are looked for on: on small ones a px is a third of a degree, and walls are rough."""
    wide = sphere.size.width >= FINE * WIDEST * sphere.across / (2 * np.pi)
    return Faces.of(sphere, FINER if wide else 1, AROUND)


def seen_edges(luma: Gray, faces: Faces) -> NDArray[np.float32]:
    """Rays and normals (K, 6), in the camera: to straight, strong edges of a sphere's luma, seen on `faces` around, and
    of the planes that those lie in.
    """
    found = []
    for face, picture in enumerate(faces.pictures(faces.small(luma))):
        samples, across = _edges(picture, faces.shown[face])
        points = (samples + 0.5) / faces.finer - 0.5
        inside = (np.abs(points - MIDDLE) <= FOCAL).all(-1)
        here, along = points[inside], np.stack([-across[inside, 1], across[inside, 0]], -1)
        rays = face_rays(face, here)
        step = np.cross(rays, face_rays(face, here + along))
        edges = np.hstack([rays, step / np.linalg.norm(step, axis=-1, keepdims=True)])
        found.append(edges[np.abs(rays[:, 1]) < STEEPEST])
    return np.concatenate(found).astype(np.float32)


def _edges(picture: NDArray[np.uint8], shown: NDArray[np.uint8]) -> tuple[Floats, Floats]:
    """Places (K, 2) of the strongest straight edges of a face's cells, and their unit gradients (K, 2): both by the
    line that they are part of, where it goes on.
    """
    across, down = _gradients(cv2.GaussianBlur(picture, (0, 0), 1.0))
    strength = cv2.magnitude(across, down)
    strongest = strength >= cv2.dilate(strength, np.ones((3, 3), np.uint8))
    row, column = np.nonzero(strongest & (strength > LEAST) & (shown > 0))
    xx, yy, xy = (_nearby(product)[row // 2, column // 2] for product in (across**2, down**2, across * down))
    straight = np.hypot(xx - yy, 2 * xy) > STRAIGHT * (xx + yy)
    row, column, xx, yy, xy = (part[straight] for part in (row, column, xx, yy, xy))
    side = len(picture)
    cell = (row * CELLS // side) * CELLS + column * CELLS // side
    order = np.lexsort((-strength[row, column], cell))
    ordered = cell[order]
    rank = np.arange(len(order)) - np.searchsorted(ordered, ordered)
    kept = order[rank < PER_CELL]
    row, column = row[kept], column[kept]
    angle = 0.5 * np.arctan2(2 * xy[kept], (xx - yy)[kept])
    gradient = np.stack([np.cos(angle), np.sin(angle)], -1)
    places = np.stack([column, row], -1).astype(np.float64)
    sharp = _gradients(picture)  # blur moves edges that are shaded on one side, as the sea's horizon is
    places += gradient * _beside(cv2.magnitude(*sharp), places, gradient)[:, None]
    for reach in REACHES:
        places, gradient = _followed(sharp, places, gradient, reach)
    return places, gradient


def _nearby(values: Gradients) -> NDArray[np.float32]:
    """What lies around, on average, every second sample each way."""
    halved = cv2.resize(values, (values.shape[1] // 2, values.shape[0] // 2), interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.GaussianBlur(halved, NEARBY, NEARBY_SPREAD))


def _gradients(picture: NDArray[np.uint8]) -> tuple[Gradients, Gradients]:
    """Levels a px, to the right and down."""
    gray = picture.astype(np.float32)
    across, down = (cv2.Scharr(gray, cv2.CV_32F, *order, scale=1 / 32) for order in ((1, 0), (0, 1)))
    return np.asarray(across, np.float32), np.asarray(down, np.float32)


def _beside(strength: Gradients, places: Floats, across: Floats) -> Floats:
    """How far along their gradients (K, 2) edges lie beside the samples (K, 2) that they are strongest at, px."""
    before, here, after = (_sampled(strength, places + step * across) for step in (-1.0, 0.0, 1.0))
    return _peak(before, here, after)


def _followed(
    sharp: tuple[Gradients, Gradients], places: Floats, gradient: Floats, reach: int
) -> tuple[Floats, Floats]:
    """Edges (K, 2), (K, 2) as the straight line through what goes on from them for up to `reach` px either way; those
    that do not go on so far stay as they are.
    """
    steps = np.arange(-reach, reach + 1, max(STRIDE, reach // LOOKS), dtype=np.float64)
    along = np.stack([-gradient[:, 1], gradient[:, 0]], -1)
    line = places[:, None] + steps[:, None] * along[:, None]
    sign = np.sign((np.stack([_sampled(part, places) for part in sharp], -1) * gradient).sum(-1))[:, None]

    def rise(step: float) -> Floats:
        at = line + step * gradient[:, None]
        x, y = (_sampled(part, at) for part in sharp)
        return np.asarray(sign * (x * gradient[:, :1] + y * gradient[:, 1:]), np.float64)

    rises = np.stack([rise(step) for step in ASIDE])
    best = np.clip(rises.argmax(0), 1, len(ASIDE) - 2)
    before, here, after = (np.take_along_axis(rises, (best + step)[None], 0)[0] for step in (-1, 0, 1))
    aside = np.array(ASIDE)[best] + (ASIDE[1] - ASIDE[0]) * _peak(before, here, after)
    weights = (here > GOES_ON * LEAST).astype(np.float64)
    for _ in range(FITS):
        offset, slope = _straight(steps, aside, weights)
        far = aside - offset[:, None] - slope[:, None] * steps
        weights = np.where(here > GOES_ON * LEAST, tukey(far, FAR_PX), 0.0)
    fits = weights.sum(1) > ENOUGH * len(steps)
    offset, slope = np.where(fits, offset, 0.0), np.where(fits, slope, 0.0)
    turned = gradient - slope[:, None] * along
    moved = places + offset[:, None] * gradient
    return moved, turned / np.linalg.norm(turned, axis=-1, keepdims=True)


def _straight(steps: Floats, aside: Floats, weights: Floats) -> tuple[Floats, Floats]:
    """Lines `offset + slope * steps` (K,) through places aside (K, S) by weighted least squares."""
    total = np.maximum(weights.sum(1), 1e-9)
    middle = (weights * steps).sum(1) / total
    centred = steps - middle[:, None]
    slope = (weights * centred * aside).sum(1) / np.maximum((weights * centred**2).sum(1), 1e-9)
    return (weights * aside).sum(1) / total - slope * middle, slope


def _sampled(picture: Gradients, places: Floats) -> Floats:
    """A picture's values at places (..., 2)."""
    flat = places.reshape(-1, 2).astype(np.float32)
    if not len(flat):
        return np.zeros(places.shape[:-1])
    x, y = np.ascontiguousarray(flat.T)
    looked = cv2.remap(picture, x[None], y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(looked[0].reshape(places.shape[:-1]), np.float64)


def _peak(before: Floats, here: Floats, after: Floats) -> Floats:
    """Where a parabola through three values is highest, in steps from the middle one, -1 ... 1."""
    bend = before - 2 * here + after
    return np.asarray(np.where(bend < 0, np.clip(0.5 * (before - after) / np.minimum(bend, -1e-9), -1, 1), 0.0))
