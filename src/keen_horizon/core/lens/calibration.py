"""A lens from pictures of a printed board: a chessboard, or a grid of dots.

Corners are found to a fraction of a pixel (Duda & Frese 2018 for the chessboard); the camera and its lens are those
that put the board's corners nearest to where they were seen (Zhang 2000). Both a polynomial and a fisheye are tried.
Views that fit far worse than the rest are left out, and the lens is found again.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.exchange.opencv import settings_from_opencv
from keen_horizon.core.lens.over_time import lens_of
from keen_horizon.core.treatment.optics import LensSettings

Floats = NDArray[np.float64]
Gray = NDArray[np.uint8]

LEAST_ACROSS = 3
LEAST_VIEWS = 4
MOST_VIEWS = 30
CORNERS = 1.02  # half-diagonals: a lens that folds over before is told badly there, however well the board fits
FIGURE_PRICE = 0.01
BAD_VIEW = 2.5  # times the median view's error
_SHAPES = cv2.CALIB_CB_NORMALIZE_IMAGE | cv2.CALIB_CB_EXHAUSTIVE | cv2.CALIB_CB_ACCURACY


@dataclass(frozen=True)
class Board:
    """What was printed: inner corners of a chessboard, or dots, across and down. Raises LensError for too few."""

    kind: Literal["chessboard", "dots"]
    across: int
    down: int

    def __post_init__(self) -> None:
        if min(self.across, self.down) < LEAST_ACROSS:
            raise LensError(f"A board has {LEAST_ACROSS} inner corners, or dots, or more each way.")

    def points(self) -> NDArray[np.float32]:
        """Places on the board (across * down, 3), in squares."""
        x, y = np.meshgrid(np.arange(self.across), np.arange(self.down))
        return np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], -1).astype(np.float32)


@dataclass(frozen=True)
class View:
    """The board on a frame: its places (N, 2), px."""

    frame: int
    places: NDArray[np.float32]


@dataclass(frozen=True)
class Calibration:
    """The lens, its focal length in half-diagonals, the RMS distance of corners from where it puts them, and which
    frames were used and which left out.
    """

    lens: LensSettings
    focal: float
    error_px: float
    used: tuple[int, ...]
    rejected: tuple[int, ...]


def seen_board(gray: Gray, board: Board, frame: int) -> View | None:
    """The board in a picture (rows, columns), where it is seen whole."""
    shape = (board.across, board.down)
    if board.kind == "chessboard":
        found, places = cv2.findChessboardCornersSB(gray, shape, flags=_SHAPES)
    else:
        found, places = cv2.findCirclesGrid(gray, shape, flags=cv2.CALIB_CB_SYMMETRIC_GRID | cv2.CALIB_CB_CLUSTERING)
    return View(frame, places.reshape(-1, 2).astype(np.float32)) if found else None


def varied(views: list[View], most: int = MOST_VIEWS) -> list[View]:
    """At most so many views, each as unlike those before as can be: by where the board's four corners lie."""
    if len(views) <= most:
        return views
    corners = np.array([view.places[[0, -1]].ravel() for view in views])
    chosen = [0]
    away = np.full(len(views), np.inf)
    while len(chosen) < most:
        away = np.minimum(away, np.linalg.norm(corners - corners[chosen[-1]], axis=1))
        chosen.append(int(np.argmax(away)))
    return [views[i] for i in sorted(chosen)]


def calibrate(views: list[View], board: Board, size: Size) -> Calibration:
    """The lens that views of the board tell. Raises LensError saying what is missing."""
    if len(views) < LEAST_VIEWS:
        raise LensError(
            f"The board was seen whole on {len(views)} frames, {LEAST_VIEWS} are needed. Are {board.across} × "
            f"{board.down} its {'inner corners' if board.kind == 'chessboard' else 'dots'}? Hold it nearer, tilted "
            "this way and that, in the light."
        )
    kept, rejected = views, []
    found = _best(kept, board, size)
    for _ in range(3):
        bad = found.per_view > max(0.2, BAD_VIEW * float(np.median(found.per_view)))
        if not bad.any() or (~bad).sum() < LEAST_VIEWS:
            break
        rejected += [view.frame for view, out in zip(kept, bad, strict=True) if out]
        kept = [view for view, out in zip(kept, bad, strict=True) if not out]
        found = _best(kept, board, size)
    return Calibration(found.lens, found.focal, found.error_px, tuple(v.frame for v in kept), tuple(sorted(rejected)))


@dataclass(frozen=True)
class _Found:
    lens: LensSettings
    focal: float
    per_view: Floats
    error_px: float


def _best(views: list[View], board: Board, size: Size) -> _Found:
    """The polynomial or the fisheye, whichever puts the corners nearer."""
    found = [solved for solve, fixed in TRIED if (solved := solve(views, board, size, fixed)) is not None]
    if not found:
        raise LensError("The views of the board do not tell a lens. Film it tilted, all over the picture.")
    return min(found, key=lambda solved: (lens_of(solved.lens).fold < CORNERS, solved.error_px * _dearer(solved.lens)))


def _dearer(lens: LensSettings) -> float:
    """More figures must earn their keep, for they run wild where no board was seen."""
    return 1 + FIGURE_PRICE * sum(k != 0 for k in (*lens.coefficients, lens.p1, lens.p2))


def _polynomial(views: list[View], board: Board, size: Size, fixed: int) -> _Found | None:
    objects = [board.points()] * len(views)
    try:
        _, matrix, bend, turns, shifts = cv2.calibrateCamera(
            objects, [view.places for view in views], (size.width, size.height), None, None, flags=fixed
        )
    except cv2.error:
        return None
    shown = [cv2.projectPoints(board.points(), r, t, matrix, bend)[0][:, 0] for r, t in zip(turns, shifts, strict=True)]
    return _judged(matrix, bend.ravel()[:5], shown, views, size, False)


def _fisheye(views: list[View], board: Board, size: Size, fixed: int) -> _Found | None:
    objects = [board.points()[None].astype(np.float64)] * len(views)
    places = [view.places[None].astype(np.float64) for view in views]
    matrix, bend = np.zeros((3, 3)), np.zeros((4, 1))
    flags = cv2.CALIB_RECOMPUTE_EXTRINSIC | cv2.CALIB_FIX_SKEW | fixed
    try:
        _, matrix, bend, turns, shifts = cv2.fisheye.calibrate(
            objects, places, (size.width, size.height), matrix, bend, flags=flags
        )
        shown = [
            cv2.fisheye.projectPoints(objects[0], r, t, matrix, bend)[0][0] for r, t in zip(turns, shifts, strict=True)
        ]
    except cv2.error:
        return None
    return _judged(matrix, bend.ravel(), shown, views, size, True)


def _judged(
    matrix: Floats, bend: Floats, shown: list[Floats], views: list[View], size: Size, fisheye: bool
) -> _Found | None:
    """None where what was found is no lens."""
    off = np.array([np.linalg.norm(s - view.places, axis=1) for s, view in zip(shown, views, strict=True)])
    per_view = np.sqrt((off**2).mean(1))
    if not (np.isfinite(matrix).all() and np.isfinite(per_view).all()):
        return None
    try:
        lens, focal = settings_from_opencv(matrix, bend, size, fisheye)
    except ProfileError:
        return None
    return _Found(lens, focal, per_view, float(np.sqrt((off**2).mean())))


TRIED = (
    (_polynomial, cv2.CALIB_FIX_K3), (_polynomial, 0), (_fisheye, cv2.CALIB_FIX_K3 | cv2.CALIB_FIX_K4), (_fisheye, 0),
)  # fmt: skip
