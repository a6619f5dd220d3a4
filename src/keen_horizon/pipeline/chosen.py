"""Frames all over a measured range that the glass is judged by."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

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


class Look(Protocol):
    """Something that is told by some frames of a measured range."""

    wanted: Indices  # the frames, counted from the measurement's first

    def see(self, index: int, frame: Frame) -> None:
        """Take what there is from a frame, the `index`th wanted."""


def show(
    looks: Sequence[Look],
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    progress: Callable[[int, int], None],
    should_stop: Callable[[], bool],
) -> None:
    """Let every look see its frames, in one reading. Raises MediaError, Stopped."""
    first = measurement.first + min(int(look.wanted[0]) for look in looks)
    last = measurement.first + max(int(look.wanted[-1]) for look in looks)
    for frame in ahead(read_frames(info.footage(source), first, last, times)):
        if should_stop():
            raise Stopped(f"{info.name}: measuring the glass was stopped.")
        number = frame.number - measurement.first
        for look in looks:
            index = int(np.searchsorted(look.wanted, number))
            if index < len(look.wanted) and look.wanted[index] == number:
                look.see(index, frame)
        progress(frame.number - first + 1, last - first + 1)
