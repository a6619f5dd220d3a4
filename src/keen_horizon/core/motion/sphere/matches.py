"""Points of a sphere's measurement as rays that match between frames."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.motion.matched import matched_points
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.faces import FOCAL
from keen_horizon.core.motion.sphere.rows import at_middle_row

Floats = NDArray[np.float64]

MOST_POINTS = 240  # of a pair: all around there are more
NOISE_RAD = 0.05 / FOCAL  # how exactly a point is followed in a face: 0.05 px
BLOCK = 128  # matches at a time, so that memory is that of their rays alone


def blocks(count: int) -> Iterator[slice]:
    """Rows 0 ... count - 1, so many at a time."""
    return (slice(start, min(start + BLOCK, count)) for start in range(0, count, BLOCK))


@dataclass(frozen=True)
class SphereMatches:
    """Matches (E,) between `frames` (E, 2), as padded tables of unit rays (E, M, 3); `there` marks real ones. Rays are
    of single precision, which is a thousandth of what points are followed to.
    """

    frames: NDArray[np.intp]
    source: NDArray[np.float32]
    target: NDArray[np.float32]
    there: NDArray[np.bool_]

    @staticmethod
    def of(measurement: Measurement, sphere: Sphere) -> SphereMatches:
        """The points of a measured range, which lie in the sphere's picture, as its rows saw them."""
        points = matched_points(measurement, MOST_POINTS)
        source, target = (np.empty((*points.there.shape, 3), np.float32) for _ in range(2))
        for rows in blocks(len(points.frames)):
            source[rows] = sphere.rays(as_points(points.source[rows]))
            target[rows] = sphere.rays(as_points(points.target[rows]))
        return SphereMatches(points.frames, source, target, points.there)

    @staticmethod
    def tracked(measurement: Measurement, sphere: Sphere) -> SphereMatches:
        """All points that were followed from frame to frame, believed or not, as they were seen."""
        evidence = measurement.evidence
        counts = np.diff(evidence.starts)
        there = np.arange(max(1, int(counts.max(initial=0)))) < counts[:, None]
        source, target = (np.zeros((*there.shape, 3), np.float32) for _ in range(2))
        source[there], target[there] = sphere.rays(evidence.points), sphere.rays(evidence.moved)
        frames = np.stack([np.arange(len(counts)), np.arange(1, len(counts) + 1)], -1)
        return SphereMatches(frames, source, target, there)

    def part(self, rows: slice) -> SphereMatches:
        """Some of the matches."""
        return SphereMatches(self.frames[rows], self.source[rows], self.target[rows], self.there[rows])

    def at_middle_rows(self, read_turns: Floats) -> SphereMatches:
        """The same as middle rows would have seen them, of a camera that turns by (N, 3) while a frame is read."""
        source, target = (np.empty_like(rays) for rays in (self.source, self.target))
        for rows in blocks(len(self.frames)):
            this, other = (read_turns[self.frames[rows, end], None] for end in (0, 1))
            source[rows] = at_middle_row(self.source[rows].astype(np.float64), this)
            target[rows] = at_middle_row(self.target[rows].astype(np.float64), other)
        return replace(self, source=source, target=target)
