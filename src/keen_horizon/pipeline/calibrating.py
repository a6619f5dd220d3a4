"""Find a clip's lens from a printed board that it films."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, Stopped
from keen_horizon.core.lens.calibration import Board, Calibration, View, calibrate, seen_board, varied
from keen_horizon.core.media.frames import gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.pipeline.finding import upright_luma

LOOKED_AT = 60


def calibrate_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    board: Board,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> Calibration:
    """The lens by the board on frames `first` ... `last`, some 60 of them. Raises LensError, MediaError, Stopped."""
    wanted = set(np.linspace(first, last, min(LOOKED_AT, last - first + 1)).round().astype(int).tolist())
    views: list[View] = []
    done, total = 0, len(wanted) + 1
    for frame in gapless(read_frames(info.footage(source), first, last, times), first, times):
        if should_stop():
            raise Stopped(f"{info.name}: looking for the board was stopped.")
        if frame.number not in wanted:
            continue
        view = seen_board(upright_luma(frame, info.display), board, frame.number)
        if view is not None:
            views.append(view)
        done += 1
        progress(done, total)
    try:
        found = calibrate(varied(views), board, info.display)
    except LensError as error:
        raise LensError(f"{info.name}: {error}") from error
    progress(total, total)
    return found
