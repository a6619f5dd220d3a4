"""The points that a measurement followed between frames, as tables: one row a match, padded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex
from keen_horizon.core.motion.measurement import Evidence, Measurement
from keen_horizon.core.motion.tracking import USUAL

Value = TypeVar("Value", bound=np.generic)

NOISE_PX = 0.05  # how exactly a point is followed, at 640 wide
MOST_POINTS = 80
GRID = (12, 8)
FARTHEST_PX = 4096  # of the analysis, that OpenCV is given as a corner


@dataclass(frozen=True)
class MatchedPoints:
    """Matches (E,) between `frames` (E, 2), as padded tables (E, M) of display points; `there` marks real ones."""

    frames: NDArray[np.intp]
    source: Complex
    target: Complex
    there: NDArray[np.bool_]

    def part(self, rows: slice | NDArray[np.intp]) -> MatchedPoints:
        """Some of the matches, in tables as wide as they need."""
        there = self.there[rows]
        wide = slice(0, int(np.max(np.flatnonzero(there.any(0)), initial=0)) + 1)
        return MatchedPoints(self.frames[rows], self.source[rows, wide], self.target[rows, wide], there[:, wide])

    def table(self, values: NDArray[Value]) -> NDArray[Value]:
        """Values (P, ...) of the points that are there, as a table (E, M, ...)."""
        table: NDArray[Value] = np.zeros((*self.there.shape, *values.shape[1:]), values.dtype)
        table[self.there] = values
        return table

    def numbers(self, end: int) -> NDArray[np.intp]:
        """The number (P,), in the range, of the frame that each point that is there lies in: 0 source, 1 target."""
        return np.broadcast_to(self.frames[:, end, None], self.there.shape)[self.there]


def analysed_unit(size: Size) -> float:
    """Display pixels in a pixel of the analysis."""
    return max(size.width, size.height) / USUAL.side


def analysed_size(size: Size) -> Size:
    """The size at which pictures of a display size are analysed."""
    unit = analysed_unit(size)
    return Size(max(1, round(size.width / unit)), max(1, round(size.height / unit)))


def fill_area(mask: NDArray[np.uint8], polygon: Floats, *, around: bool) -> None:
    """Fill a polygon (C, 2), px of a mask of the whole picture; `around` says that what lies beyond the picture's sides
    is seen at the other one.
    """
    width = mask.shape[1]
    for turn in (-width, 0, width) if around else (0,):
        corners = np.clip(polygon + (turn, 0), -FARTHEST_PX, FARTHEST_PX).round().astype(np.int32)
        cv2.fillPoly(mask, [corners], 1)


def matched_points(measurement: Measurement, most: int = MOST_POINTS) -> MatchedPoints:
    """The points of every pair, at most so many, and of every match; where an earlier format kept none, a grid moved
    by the poses.
    """
    evidence, count = measurement.evidence, len(measurement)
    frames = np.stack([np.arange(count - 1), np.arange(1, count)], -1)
    if len(evidence.moved) == 0:
        size = measurement.size
        across, down = (np.linspace(0, side - 1, n) for side, n in zip((size.width, size.height), GRID, strict=True))
        grid = (across[None, :] + 1j * down[:, None]).ravel()
        anchored = np.stack([np.zeros(max(0, count - 2), np.intp), np.arange(2, count)], -1)
        frames = np.concatenate([frames, anchored])
        moved = (measurement.poses[frames[:, 1]].inverse() @ measurement.poses[frames[:, 0]]).apply(grid)
        return MatchedPoints(frames, np.broadcast_to(grid, moved.shape), moved, np.ones(moved.shape, np.bool_))
    matches = evidence.matches
    thin = _thinned(evidence, most)
    counts = np.r_[np.bincount(thin.pair, minlength=count - 1), np.diff(matches.starts)]
    there = np.arange(max(1, int(counts.max(initial=0)))) < counts[:, None]
    tables = []
    for pairs, others in ((evidence.points[thin.rows], matches.points), (evidence.moved[thin.rows], matches.moved)):
        table = np.zeros(there.shape, np.complex128)
        table[there] = as_complex(np.concatenate([pairs, others]))
        tables.append(table)
    believed = np.zeros(there.shape, np.bool_)
    believed[there] = np.r_[evidence.believed[thin.rows], np.ones(len(matches.points), np.bool_)]
    return MatchedPoints(np.concatenate([frames, matches.frames]), tables[0], tables[1], believed)


@dataclass(frozen=True)
class _Thinned:
    """Rows of the table of tracked points, and the pair that each belongs to."""

    rows: NDArray[np.intp]
    pair: NDArray[np.intp]


def _thinned(evidence: Evidence, most: int) -> _Thinned:
    """Every so many rows of a pair, so that none has more than `most`."""
    counts = np.diff(evidence.starts)
    pair = np.repeat(np.arange(len(counts)), counts)
    place = np.arange(len(pair)) - evidence.starts[:-1][pair]
    rows = np.flatnonzero(place % (1 + counts // most)[pair] == 0)
    return _Thinned(rows, pair[rows])


def biweight(errors: Floats, there: NDArray[np.bool_], least: float) -> Floats:
    """Tukey's weights (E, M) of errors by each row's own spread, at least `least` (Holland & Welsch 1977)."""
    spread = np.maximum(least, 1.2 * row_medians(errors, there))[:, None]
    return np.asarray(np.where(there, tukey(errors, spread), 0.0))


def row_medians(values: Floats, there: NDArray[np.bool_]) -> Floats:
    """The median (E,) of what is there of each row (E, M); 0 where nothing is."""
    ordered = np.sort(np.where(there, values, np.inf), axis=1)
    middle = np.maximum(there.sum(1) - 1, 0) // 2
    found = np.take_along_axis(ordered, middle[:, None], 1)[:, 0]
    return np.asarray(np.where(there.any(1), found, 0.0))
