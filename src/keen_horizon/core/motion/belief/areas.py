"""Areas of the picture over time: where an editor's polygons lie on every frame, and which points lie in them.

An area goes evenly from key to key, or follows what is in it (see `followed`, and `sphere.followed`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.motion.belief.followed import followed
from keen_horizon.core.motion.matched import analysed_size, analysed_unit, fill_area
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.followed import followed_around
from keen_horizon.core.treatment.believing import Area

MOSTLY_INSIDE = 1 / 3  # of a track's life: it is ignored all along
CORNERS = 32  # that polygons of unlike keys are drawn with


@dataclass(frozen=True)
class AreaOverTime:
    """An area's polygon (N, C) on every frame of a range, display px, where it is there (N,)."""

    polygons: Complex
    there: NDArray[np.bool_]

    def on(self, place: int) -> Floats:
        """The polygon (C, 2) on a frame counted from the range's first."""
        return as_points(self.polygons[place])


@kept_lately
def area_over_time(area: Area, measurement: Measurement) -> AreaOverTime:
    """Where an area lies on every frame of a measured range."""
    count, first = len(measurement), measurement.first
    frames = np.array([key.frame - first for key in area.keys])
    shapes = _alike([as_complex(np.array(key.polygon)) for key in area.keys])
    there = np.ones(count, np.bool_)
    if area.span is not None:
        numbers = first + np.arange(count)
        there = (numbers >= area.span[0]) & (numbers <= area.span[1])
    if area.follows:
        follow = followed_around if measurement.sphere else followed
        return AreaOverTime(follow(measurement, frames, shapes), there)
    places = np.arange(count)
    polygons = np.stack(
        [np.interp(places, frames, c.real) + 1j * np.interp(places, frames, c.imag) for c in np.stack(shapes, 1)], -1
    )
    return AreaOverTime(polygons, there)


def _alike(shapes: list[Complex]) -> list[Complex]:
    """Polygons with as many corners each, and corners that belong together."""
    if len(shapes) == 1 or len({len(shape) for shape in shapes}) == 1:
        return shapes
    even = [_evenly(shape) for shape in shapes]
    for place in range(1, len(even)):
        before, here = even[place - 1], even[place]
        if _signed_area(before) * _signed_area(here) < 0:
            here = here[::-1]
        off = before - before.mean() + here.mean()
        rolled = [float(np.abs(np.roll(here, k) - off).sum()) for k in range(CORNERS)]
        even[place] = np.roll(here, int(np.argmin(rolled)))
    return even


def _evenly(shape: Complex) -> Complex:
    closed = np.r_[shape, shape[0]]
    along = np.r_[0, np.cumsum(np.abs(np.diff(closed)))]
    at = np.linspace(0, along[-1], CORNERS, endpoint=False)
    return np.asarray(np.interp(at, along, closed.real) + 1j * np.interp(at, along, closed.imag))


def _signed_area(shape: Complex) -> float:
    return float((np.conj(shape) * np.roll(shape, -1)).imag.sum())


def ignored_rows(measurement: Measurement, areas: tuple[Area, ...]) -> NDArray[np.bool_]:
    """Which rows (M + K,) of the evidence's points, then of its matches', are not to be believed."""
    evidence, matches = measurement.evidence, measurement.evidence.matches
    masks = IgnoredMasks(measurement, areas)
    pair = np.repeat(np.arange(len(evidence.starts) - 1), np.diff(evidence.starts))
    rows: NDArray[np.bool_] = masks.inside(pair, evidence.points) | masks.inside(pair + 1, evidence.moved)
    match = np.repeat(np.arange(len(matches.frames)), np.diff(matches.starts))
    others = masks.inside(matches.frames[match, 0], matches.points)
    others |= masks.inside(matches.frames[match, 1], matches.moved)
    if not len(evidence.identity):
        return np.concatenate([rows, others])
    count = int(max(evidence.identity.max(initial=-1), matches.identity.max(initial=-1))) + 1
    life = np.bincount(evidence.identity, minlength=count)
    inside = np.bincount(evidence.identity[rows], minlength=count)
    wholly = inside > MOSTLY_INSIDE * np.maximum(life, 1)
    return np.asarray(np.r_[rows | wholly[evidence.identity], others | wholly[matches.identity]])


class IgnoredMasks:
    """Where a range's frames are ignored, drawn at the size of the analysis."""

    def __init__(self, measurement: Measurement, areas: tuple[Area, ...]) -> None:
        self._around = measurement.sphere and sphere_of(measurement.size).whole
        self._unit, size = analysed_unit(measurement.size), analysed_size(measurement.size)
        self._shape = (size.height, size.width)
        self._areas = [(area.only, area_over_time(area, measurement)) for area in areas]
        self._drawn: dict[int, NDArray[np.bool_]] = {}

    def inside(self, places: NDArray[np.intp] | NDArray[np.int64], points: NDArray[np.float32]) -> NDArray[np.bool_]:
        """Which points (P, 2), each on its own frame (P,), are ignored."""
        found = np.zeros(len(points), np.bool_)
        order = np.argsort(places, kind="stable")
        ends = np.searchsorted(places[order], np.arange(int(places.max(initial=-1)) + 2))
        x = np.clip((points[:, 0] / self._unit).astype(np.intp), 0, self._shape[1] - 1)
        y = np.clip((points[:, 1] / self._unit).astype(np.intp), 0, self._shape[0] - 1)
        for place in range(len(ends) - 1):
            rows = order[ends[place] : ends[place + 1]]
            if len(rows):
                found[rows] = self.on(place)[y[rows], x[rows]]
        return found

    def on(self, place: int) -> NDArray[np.bool_]:
        """What is ignored of a frame counted from the range's first, at the size of the analysis."""
        if place not in self._drawn:
            self._drawn[place] = self._draw(place)
        return self._drawn[place]

    def _draw(self, place: int) -> NDArray[np.bool_]:
        ignored, only = (np.zeros(self._shape, np.uint8) for _ in range(2))
        only_some = False
        for is_only, area in self._areas:
            if not area.there[place]:
                continue
            fill_area(only if is_only else ignored, area.on(place) / self._unit, around=self._around)
            only_some = only_some or is_only
        outside = (only == 0) if only_some else np.zeros(self._shape, np.bool_)
        return np.asarray((ignored > 0) | outside)
