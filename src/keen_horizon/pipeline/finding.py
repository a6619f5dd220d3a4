"""A clip's lens by itself, from the edges of a few frames and its motion; and the edge nearest to a place."""

from __future__ import annotations

from collections.abc import Callable
from itertools import count
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, Stopped
from keen_horizon.core.finding.lens_by_motion.search import TRIALS
from keen_horizon.core.finding.own_lens import OwnLens, own_lens
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import Edge, picture_edges
from keen_horizon.core.lens.edges import nearest_edge
from keen_horizon.core.media.footage import Source
from keen_horizon.core.media.frames import Frame, read_frame
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement

FRAMES = 5
SNAP_REACH = 0.008  # of the width


def find_clip_lens(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    motion: Measurement | None = None,
) -> OwnLens:
    """The lens that frames `first` ... `last` show, and their `motion` where that was measured.

    Raises LensError saying why there is none, MediaError, Stopped.
    """
    numbers = np.unique(np.linspace(first, last, FRAMES + 2).round().astype(int)[1:-1])
    total = len(numbers) + 1 + (TRIALS if motion is not None else 0)
    steps = count()

    def between() -> None:
        if should_stop():
            raise Stopped(f"{info.name}: looking for the lens was stopped.")
        progress(min(next(steps), total - 1), total)

    edges: list[Edge] = []
    for number in numbers:
        between()
        luma = upright_luma(read_frame(info.footage(source), int(number), times), info.display)
        edges += picture_edges(luma, int(number), info.display)
    between()
    try:
        found = own_lens(edges, info.display, motion, between)
    except LensError as error:
        raise LensError(f"{info.name}: {error}") from error
    progress(total, total)
    return found


def edge_near(
    source: Source, times: NDArray[np.float64], display: Size, number: int, place: tuple[float, float]
) -> list[float] | None:
    """The nearest clear edge to a place of the upright clip on a frame, or None where there is none."""
    luma = upright_luma(read_frame(source, number, times), display)
    reach = max(6.0, SNAP_REACH * display.width)
    margin = int(reach) + 8
    left, top = (max(0, round(value) - margin) for value in place)
    part = luma[top : round(place[1]) + margin + 1, left : round(place[0]) + margin + 1]
    if min(part.shape) < 3:
        return None
    corner = np.array([left, top], np.float64)
    found = nearest_edge(part, np.array(place) - corner, reach)
    return None if found is None else (found + corner).round(3).tolist()


def upright_luma(frame: Frame, display: Size) -> NDArray[np.uint8]:
    """A frame's luma at 8 bits with square pixels."""
    luma = frame.luma8()
    if luma.shape == (display.height, display.width):
        return luma
    return np.asarray(cv2.resize(luma, (display.width, display.height), interpolation=cv2.INTER_AREA))
