"""Points worth following, and where they went.

Corners by their smaller eigenvalue (Shi & Tomasi 1994), the best few of every cell of a grid so that
the whole picture has its say; followed by pyramidal Lucas-Kanade (Bouguet 2001) there and back, and
believed when they come home.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Gray = NDArray[np.uint8]
Points = NDArray[np.float32]

GRID = (16, 9)
PER_CELL = 2
MINIMUM_STRENGTH = 2e-4
ROUND_TRIP_PX = 0.5
_WINDOW = (19, 19)
_LEVELS = 3
_CRITERIA = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 12, 0.01)


@dataclass(frozen=True)
class Tracks:
    """Points (N, 2) in one picture and where they were found in another, in analysis pixels."""

    source: Points
    target: Points

    def __len__(self) -> int:
        return len(self.source)


def grid_cells(points: NDArray[np.floating], shape: tuple[int, ...]) -> NDArray[np.intp]:
    """The index of the grid cell that each point (N, 2) lies in; `shape` is (rows, columns)."""
    across, down = _grid(shape)
    column = np.clip((points[:, 0] + 0.5) * across // shape[1], 0, across - 1)
    row = np.clip((points[:, 1] + 0.5) * down // shape[0], 0, down - 1)
    return np.asarray(row * across + column, np.intp)


def spread_corners(gray: Gray, per_cell: int = PER_CELL) -> Points:
    """The `per_cell` strongest corners of each grid cell, (N, 2), at least 4 px apart and 8 from the edge."""
    strength = cv2.cornerMinEigenVal(gray, 5, ksize=3)
    peaks = (strength == cv2.dilate(strength, np.ones((9, 9), np.uint8))) & (strength > MINIMUM_STRENGTH)
    peaks[:8], peaks[-8:], peaks[:, :8], peaks[:, -8:] = False, False, False, False
    rows, columns = np.nonzero(peaks)
    points = np.stack([columns, rows], -1).astype(np.float32)
    if not len(points):
        return points
    cells = grid_cells(points, gray.shape)
    order = np.lexsort((-strength[rows, columns], cells))
    ordered = cells[order]
    starts = np.r_[0, np.flatnonzero(np.diff(ordered)) + 1]
    rank = np.arange(len(ordered)) - np.repeat(starts, np.diff(np.r_[starts, len(ordered)]))
    return np.asarray(points[order[rank < per_cell]])


def follow(source: Gray, target: Gray, points: Points) -> Tracks:
    """Follow points (N, 2) from one picture to the other; only those that return within 0.5 px."""
    there, found = _flow(source, target, points, points, _LEVELS)
    back, returned = _flow(target, source, there, points, 0)
    home = np.hypot(*(back - points).T) < ROUND_TRIP_PX
    good = found & returned & home & _inside(there, target)
    return Tracks(points[good], there[good])


def follow_nearby(source: Gray, target: Gray, points: Points) -> Tracks:
    """Follow points (N, 2) that have moved by a few pixels at most, one way only."""
    there, found = _flow(source, target, points, points, 1)
    good = found & _inside(there, target)
    return Tracks(points[good], there[good])


def _flow(source: Gray, target: Gray, points: Points, guess: Points, levels: int) -> tuple[Points, NDArray[np.bool_]]:
    if not len(points):
        return points, np.zeros(0, np.bool_)
    there, found, _ = cv2.calcOpticalFlowPyrLK(
        source, target, points, guess.copy(), winSize=_WINDOW, maxLevel=levels, criteria=_CRITERIA,
        flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
    )  # fmt: skip
    return there, found[:, 0] > 0


def _inside(points: Points, picture: Gray) -> NDArray[np.bool_]:
    height, width = picture.shape
    return np.asarray((points >= 0).all(-1) & (points[:, 0] < width) & (points[:, 1] < height))


def _grid(shape: tuple[int, ...]) -> tuple[int, int]:
    return GRID if shape[1] >= shape[0] else (GRID[1], GRID[0])
