"""An area of a sphere's picture that goes with what is in it, from frame to frame, both ways from where it was drawn.

On the sphere it turns and grows as the points inside it do; where too few of them agree it goes with what stands still
around it. It is kept as rays, so that it may cross the side where the picture's ends meet, and a pole.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere, sphere_of
from keen_horizon.core.geometry.similarity import Complex, as_complex, as_points
from keen_horizon.core.motion.matched import analysed_size, analysed_unit, fill_area
from keen_horizon.core.motion.measurement import Evidence, Measurement
from keen_horizon.core.motion.sphere.turns import agreed_turns, sphere_turns

Floats = NDArray[np.float64]

LEAST_POINTS = 4  # inside, that must agree on how an area goes
FAR_ENOUGH = 0.3  # of the furthest point from the middle: nearer ones tell no growth
MOST_GROWTH = 1.05  # from a frame to the next, either way
STEP_PX = 8.0  # of the analysis, between corners: sides are straight in the picture, not on the sphere
CORNERS = (16, 400)  # of a polygon, at least and at most


def followed_around(measurement: Measurement, frames: NDArray[np.intp], shapes: list[Complex]) -> Complex:
    """The polygons (N, C), px, of an area drawn as `shapes` on `frames`, counted from the range's first.

    Each frame has the one that was drawn nearest to it in time. They may lie beyond the picture's sides, all around.
    """
    follower = _Follower(measurement)
    count = len(measurement)
    drawn = np.clip(frames, 0, count - 1)
    nearest = np.abs(np.arange(count)[:, None] - drawn).argmin(1)
    rays = [follower.sphere.rays(as_points(shape)) for shape in _with_corners(shapes, analysed_unit(measurement.size))]
    found = np.zeros((count, len(rays[0]) + 2), np.complex128)
    for number, (start, outline) in enumerate(zip(drawn, rays, strict=True)):
        own = np.flatnonzero(nearest == number)
        for end in {int(own.min(initial=start)), int(own.max(initial=start))}:
            for place, seen in follower.walked(outline, int(start), end):
                found[place] = _unrolled(follower.sphere, seen)
    return found


def _with_corners(shapes: list[Complex], unit: float) -> list[Complex]:
    """Polygons of as many corners each, STEP_PX of the analysis apart unless they are huge."""
    lengths = [np.abs(np.diff(np.r_[shape, shape[0]])) for shape in shapes]
    corners = int(np.clip(max(length.sum() for length in lengths) / (STEP_PX * unit), *CORNERS))
    even = []
    for shape, length in zip(shapes, lengths, strict=True):
        closed, along = np.r_[shape, shape[0]], np.r_[0, np.cumsum(length)]
        at = np.linspace(0, along[-1], corners, endpoint=False)
        even.append(np.interp(at, along, closed.real) + 1j * np.interp(at, along, closed.imag))
    return even


def _unrolled(sphere: Sphere, rays: Floats) -> Complex:
    """The polygon (C + 2,), px, through rays (C, 3), its columns going on beyond the sides; one that goes all around
    goes on along the pole that it holds.
    """
    points = sphere.points(rays)
    width, height = sphere.size.width, sphere.size.height
    if sphere.whole:
        points[:, 0] = np.unwrap(points[:, 0], period=width)
    polygon = as_complex(points)
    first, last = polygon[0], polygon[-1]
    if not sphere.whole or abs(last.real - first.real) < width / 2:
        return np.array([*polygon, last, first])
    pole = height - 0.5 if points[:, 1].mean() > height / 2 else -0.5
    return np.array([*polygon, last.real + 1j * pole, first.real + 1j * pole])


class _Follower:
    """Follows areas through a sphere's measurement."""

    def __init__(self, measurement: Measurement) -> None:
        self.sphere = sphere_of(measurement.size)
        self._evidence: Evidence = measurement.evidence
        self._pairs = sphere_turns(measurement, self.sphere).pairs.as_matrix()
        self._unit, size = analysed_unit(measurement.size), analysed_size(measurement.size)
        self._shape = (size.height, size.width)

    def walked(self, rays: Floats, start: int, end: int) -> list[tuple[int, Floats]]:
        """Frames from `start` to `end`, and the rays (C, 3) that were drawn on the first of them."""
        found = [(start, rays)]
        way = 1 if end >= start else -1
        for place in range(start, end, way):
            rays = self._stepped(rays, place, way)
            found.append((place + way, rays))
        return found

    def _stepped(self, rays: Floats, place: int, way: int) -> Floats:
        """The rays a frame on: as the points inside went, or as what stands still did."""
        pair = place if way > 0 else place - 1
        rows = slice(int(self._evidence.starts[pair]), int(self._evidence.starts[pair + 1]))
        before, after = (points[rows] for points in (self._evidence.points, self._evidence.moved))
        if way < 0:
            before, after = after, before
        around = self._pairs[pair] if way > 0 else self._pairs[pair].T
        inside = self._inside(rays, before)
        source, target = (self.sphere.rays(points[inside].astype(np.float64)) for points in (before, after))
        if len(source) < LEAST_POINTS:
            return np.asarray(rays @ around.T)
        turns, agree, _ = agreed_turns(source[None], target[None], np.ones((1, len(source)), np.bool_))
        if agree.sum() < LEAST_POINTS:
            return np.asarray(rays @ around.T)
        middle = rays.mean(0) / max(1e-9, float(np.linalg.norm(rays.mean(0))))
        growth = _growth(source[agree[0]], target[agree[0]], middle, turns[0] @ middle)
        return np.asarray(_grown(rays, middle, growth) @ turns[0].T)

    def _inside(self, rays: Floats, points: NDArray[np.float32]) -> NDArray[np.bool_]:
        """Which points (P, 2), px, lie in the area whose corners are rays (C, 3)."""
        mask = np.zeros(self._shape, np.uint8)
        fill_area(mask, as_points(_unrolled(self.sphere, rays)) / self._unit, around=self.sphere.whole)
        column = np.clip((points[:, 0] / self._unit).astype(np.intp), 0, self._shape[1] - 1)
        row = np.clip((points[:, 1] / self._unit).astype(np.intp), 0, self._shape[0] - 1)
        return np.asarray(mask[row, column] > 0)


def _growth(source: Floats, target: Floats, middle: Floats, middle_then: Floats) -> float:
    """How much further points (P, 3) lie from the middle than before."""
    far, far_then = np.arccos(np.clip(source @ middle, -1, 1)), np.arccos(np.clip(target @ middle_then, -1, 1))
    telling = far > FAR_ENOUGH * far.max()
    return float(np.clip(np.median(far_then[telling] / far[telling]), 1 / MOST_GROWTH, MOST_GROWTH))


def _grown(rays: Floats, middle: Floats, growth: float) -> Floats:
    """Rays (C, 3) as many times as far from a middle one, on the way that they lie from it."""
    along = rays @ middle
    aside = rays - along[:, None] * middle
    angle = np.arctan2(np.linalg.norm(aside, axis=1), along)
    way = aside / np.maximum(np.linalg.norm(aside, axis=1), 1e-12)[:, None]
    then = np.minimum(growth * angle, np.pi)[:, None]
    return np.asarray(np.cos(then) * middle + np.sin(then) * way)
