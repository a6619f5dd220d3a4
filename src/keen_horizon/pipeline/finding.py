"""Find a clip's lens by itself, from a few frames spread over the range."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError, Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import AutomaticLens, Edge, automatic_lens, picture_edges
from keen_horizon.core.media.frames import Frame, read_frame
from keen_horizon.core.media.probe import ClipInfo

FRAMES = 5


def find_clip_lens(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    first: int,
    last: int,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> AutomaticLens:
    """The lens that frames `first` ... `last` show. Raises LensError saying why there is none, MediaError, Stopped."""
    numbers = np.unique(np.linspace(first, last, FRAMES + 2).round().astype(int)[1:-1])
    edges: list[Edge] = []
    for done, number in enumerate(numbers):
        if should_stop():
            raise Stopped(f"{info.name}: looking for the lens was stopped.")
        progress(done, len(numbers) + 1)
        luma = upright_luma(read_frame(source, int(number), times), info.display)
        edges += picture_edges(luma, int(number), info.display)
    progress(len(numbers), len(numbers) + 1)
    try:
        found = automatic_lens(edges, info.display)
    except LensError as error:
        raise LensError(f"{info.name}: {error}") from error
    progress(len(numbers) + 1, len(numbers) + 1)
    return found


def upright_luma(frame: Frame, display: Size) -> NDArray[np.uint8]:
    """A frame's luma at 8 bits with square pixels."""
    luma = frame.luma8()
    if luma.shape == (display.height, display.width):
        return luma
    return np.asarray(cv2.resize(luma, (display.width, display.height), interpolation=cv2.INTER_AREA))
