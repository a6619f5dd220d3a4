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

GRID = (16, 9)  # cells of the picture, in which points are counted
MINIMUM_STRENGTH = 2e-4
WEAK_STRENGTH = 2e-6
ROUND_TRIP_PX = 0.5
_WINDOW = (19, 19)
_LEVELS = 3
WEAK_LEVELS, WEAK_LEAST, WEAK_RETURN_PX = 2, 1e-6, 0.4  # OpenCV's own least eigenvalue drops weak points
_LEAST = 1e-4
_CRITERIA = (cv2.TERM_CRITERIA_COUNT + cv2.TERM_CRITERIA_EPS, 12, 0.01)


@dataclass(frozen=True)
class Detail:
    """How closely pictures are looked at: `side` px of their longer side are analysed, with `per_cell` points of a kind
    in each cell of a `grid` (across and down of pictures that are wider than tall).
    """

    side: int
    grid: tuple[int, int]
    per_cell: int


USUAL = Detail(640, GRID, 2)
FINER = Detail(960, (24, 14), 3)  # of seven photographs at 1080p, 0.38-0.78 as far off; 1,280 px were hardly better


@dataclass(frozen=True)
class Tracks:
    """Points (N, 2) in one picture and where they were found in another, in analysis pixels."""

    source: Points
    target: Points

    def __len__(self) -> int:
        return len(self.source)


def cell_count(shape: tuple[int, ...], grid: tuple[int, int] = GRID) -> int:
    """How many cells the grid has."""
    across, down = grid_of(shape, grid)
    return across * down


def grid_cells(points: NDArray[np.floating], shape: tuple[int, ...], grid: tuple[int, int] = GRID) -> NDArray[np.intp]:
    """The index of the grid cell that each point (N, 2) lies in; `shape` is (rows, columns)."""
    across, down = grid_of(shape, grid)
    column = np.clip((points[:, 0] + 0.5) * across // shape[1], 0, across - 1)
    row = np.clip((points[:, 1] + 0.5) * down // shape[0], 0, down - 1)
    return np.asarray(row * across + column, np.intp)


def spread_corners(gray: Gray, per_cell: int = USUAL.per_cell, grid: tuple[int, int] = GRID) -> Points:
    """The `per_cell` strongest corners of each grid cell, (N, 2), at least 4 px apart and 8 from the edge."""
    strength = cv2.cornerMinEigenVal(gray, 5, ksize=3)
    peaks = (strength == cv2.dilate(strength, np.ones((9, 9), np.uint8))) & (strength > MINIMUM_STRENGTH)
    peaks[:8], peaks[-8:], peaks[:, :8], peaks[:, -8:] = False, False, False, False
    rows, columns = np.nonzero(peaks)
    points = np.stack([columns, rows], -1).astype(np.float32)
    return _best_of_cells(points, strength[rows, columns], grid_cells(points, gray.shape, grid), per_cell)


def _best_of_cells(points: Points, strength: NDArray[np.floating], cells: NDArray[np.intp], per_cell: int) -> Points:
    if not len(points):
        return points
    order = np.lexsort((-strength, cells))
    return np.asarray(points[order[rank_in_run(cells[order]) < per_cell]])


def rank_in_run(groups: NDArray[np.intp]) -> NDArray[np.intp]:
    """How many of the same lie before each (N,), at least one, of values in order."""
    starts = np.r_[0, np.flatnonzero(np.diff(groups)) + 1]
    return np.asarray(np.arange(len(groups)) - np.repeat(starts, np.diff(np.r_[starts, len(groups)])), np.intp)


def spread_weak(half: Gray, shape: tuple[int, ...], detail: Detail = USUAL) -> Points:
    """Points (N, 2) of a picture of `shape` that little tells apart, sought in the same at half the size."""
    strength = cv2.cornerMinEigenVal(half, 9, ksize=3)
    peaks = (strength == cv2.dilate(strength, np.ones((7, 7), np.uint8))) & (strength > WEAK_STRENGTH)
    peaks[:6], peaks[-6:], peaks[:, :6], peaks[:, -6:] = False, False, False, False
    rows, columns = np.nonzero(peaks)
    points = (2 * np.stack([columns, rows], -1) + 0.5).astype(np.float32)
    return _best_of_cells(points, strength[rows, columns], grid_cells(points, shape, detail.grid), detail.per_cell)


def there_and_back(
    source: Gray, target: Gray, points: Points, guess: Points, weak: bool = False
) -> tuple[Points, NDArray[np.bool_]]:
    """Where points (N, 2) are found in the other picture, sought from a guess on, and which of them (N,) return.

    Weak points are followed through one level less, and must return the closer.
    """
    levels, least, within = (WEAK_LEVELS, WEAK_LEAST, WEAK_RETURN_PX) if weak else (_LEVELS, _LEAST, ROUND_TRIP_PX)
    there, found = _flow(source, target, points, guess, levels, least)
    back, returned = _flow(target, source, there, points, 0, least)
    home = np.hypot(*(back - points).T) < within
    return there, found & returned & home & _inside(there, target)


def follow(source: Gray, target: Gray, points: Points) -> Tracks:
    """Follow points (N, 2) from one picture to the other; only those that return within 0.5 px."""
    there, good = there_and_back(source, target, points, points)
    return Tracks(points[good], there[good])


def nearby(
    source: Gray, target: Gray, points: Points, guess: Points, weak: bool = False
) -> tuple[Points, NDArray[np.bool_]]:
    """Where points (N, 2) are found within a few pixels of a guess, one way only, and which of them (N,) are."""
    there, found = _flow(source, target, points, guess, 1, WEAK_LEAST if weak else _LEAST)
    return there, found & _inside(there, target)


def follow_nearby(source: Gray, target: Gray, points: Points) -> Tracks:
    """Follow points (N, 2) that have moved by a few pixels at most, one way only."""
    there, good = nearby(source, target, points, points)
    return Tracks(points[good], there[good])


def _flow(
    source: Gray, target: Gray, points: Points, guess: Points, levels: int, least: float = _LEAST
) -> tuple[Points, NDArray[np.bool_]]:
    if not len(points):
        return points, np.zeros(0, np.bool_)
    there, found, _ = cv2.calcOpticalFlowPyrLK(
        source, target, points, guess.copy(), winSize=_WINDOW, maxLevel=levels, criteria=_CRITERIA,
        flags=cv2.OPTFLOW_USE_INITIAL_FLOW, minEigThreshold=least,
    )  # fmt: skip
    return there, found[:, 0] > 0


def _inside(points: Points, picture: Gray) -> NDArray[np.bool_]:
    height, width = picture.shape
    return np.asarray((points >= 0).all(-1) & (points[:, 0] < width) & (points[:, 1] < height))


def grid_of(shape: tuple[int, ...], grid: tuple[int, int] = GRID) -> tuple[int, int]:
    """Columns and rows of the grid's cells, for a picture of `shape` (rows, columns)."""
    return grid if shape[1] >= shape[0] else (grid[1], grid[0])
