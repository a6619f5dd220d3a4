"""Frames all over a measured range that the glass is judged by."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import Stopped
from keen_horizon.core.media.frames import Frame, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.pipeline.streams import ahead

Indices = NDArray[np.intp]


def spread_over_shot(measurement: Measurement, count: int) -> Indices:
    """At most `count` frames all over the longest shot, counted from the measurement's first."""
    ends = np.r_[0, np.flatnonzero(measurement.cut) + 1, len(measurement)]
    longest = int(np.argmax(np.diff(ends)))
    return np.unique(np.linspace(ends[longest], ends[longest + 1] - 1, count).round().astype(np.intp))


def chosen_frames(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    wanted: Indices,
    progress: Callable[[int, int], None],
    should_stop: Callable[[], bool],
) -> Iterator[tuple[int, Frame]]:
    """The `wanted` frames, each with its place among them. Raises MediaError, Stopped."""
    first, last = measurement.first + int(wanted[0]), measurement.first + int(wanted[-1])
    for frame in ahead(read_frames(info.footage(source), first, last, times)):
        if should_stop():
            raise Stopped(f"{info.name}: measuring the glass was stopped.")
        index = int(np.searchsorted(wanted, frame.number - measurement.first))
        if index < len(wanted) and wanted[index] == frame.number - measurement.first:
            yield index, frame
        progress(frame.number - first + 1, last - first + 1)
