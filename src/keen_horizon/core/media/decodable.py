"""The facts of a clip as far as it can be worked on: a file that breaks off is taken to end there."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import UnreadableVideoError
from keen_horizon.core.media.footage import Source
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import ClipInfo, probe, shortened
from keen_horizon.core.media.scanning import AS_FOUND, Asked

TAIL = 64  # frames looked at first for the last that decodes


def probe_decodable(path: Path, asked: Asked = AS_FOUND) -> tuple[ClipInfo, NDArray[np.float64]]:
    """As `probe`, without the frames at a broken file's end that have packets and give no picture."""
    info, times = probe(path, asked)
    if info.broken_note is None:
        return info, times
    return shortened(info, times, _last_decodable(info.footage(path), times) + 1)


def _last_decodable(source: Source, times: NDArray[np.float64]) -> int:
    tail = TAIL
    while True:
        first = max(0, len(times) - tail)
        try:
            return max(frame.number for frame in read_frames(source, first, None, times))
        except UnreadableVideoError:
            if first == 0:
                raise
            tail *= 4
