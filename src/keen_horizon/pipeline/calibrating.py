"""Find a clip's lens, and how its colours lie apart, from a printed board that it films."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, Stopped
from keen_horizon.core.finding.colour_edges import Where
from keen_horizon.core.finding.fringe import FoundFringe
from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.geometry.similarity import as_points
from keen_horizon.core.lens.calibration import Board, Calibration, View, calibrate, seen_board, varied
from keen_horizon.core.media.frames import gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.pipeline.colours import Looks, numbered
from keen_horizon.pipeline.finding import upright_luma

LOOKED_AT = 60
EDGES_OF_EVERY = 4  # views of the board: colours need fewer than corners do, and each holds a frame
BESIDE = 1 << 20  # from it on places beside the board are numbered
FURTHEST = 1000  # squares: whatever lies beyond is beside the board


def calibrate_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    board: Board,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> tuple[Calibration, FoundFringe]:
    """The lens by the board on frames `first` ... `last`, some 60 of them, and what its edges tell of the colours.

    Raises LensError, MediaError, Stopped.
    """
    wanted = set(np.linspace(first, last, min(LOOKED_AT, last - first + 1)).round().astype(int).tolist())
    views: list[View] = []
    colours = Looks()
    done, total = 0, len(wanted) + 1
    for frame in gapless(read_frames(info.footage(source), first, last, times), first, times):
        if should_stop():
            raise Stopped(f"{info.name}: looking for the board was stopped.")
        if frame.number not in wanted:
            continue
        view = seen_board(upright_luma(frame, info.display), board, frame.number)
        if view is not None:
            if len(views) % EDGES_OF_EVERY == 0:
                colours.take(len(views), frame, partial(_on_board, view, board, info.display))
            views.append(view)
        done += 1
        progress(done, total)
    try:
        found = calibrate(varied(views), board, info.display)
    except LensError as error:
        raise LensError(f"{info.name}: {error}") from error
    fringe = colours.found(info.display)
    progress(total, total)
    return found, fringe


def _on_board(view: View, board: Board, size: Size, places: NDArray[np.complex128]) -> Where:
    """Where places, half-diagonals from the frame's middle, lie: squares of the board, and beside it each by itself."""
    there = as_points(places * size.half_diagonal + size.centre)
    board_from_frame, _ = cv2.findHomography(view.places, board.points()[:, :2])
    squares = np.floor(transform(np.asarray(board_from_frame, np.float64), there))
    column, row = np.clip(squares, -FURTHEST, FURTHEST).T.astype(np.intp)
    on_it = (column >= -1) & (column <= board.across) & (row >= -1) & (row <= board.down)
    alone = BESIDE * (1 + view.frame) + np.arange(len(places))
    return Where(places, np.zeros_like(places), np.where(on_it, numbered(column, row), alone))
