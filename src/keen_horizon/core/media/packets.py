"""When a file's packets say that its pictures are shown, and how many are missing."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.containers import open_input

MISSING_SECONDS = 1.0
UNEVEN, MOSTLY = 0.1, 0.9  # of a step between pictures, and of the steps: a rate that holds but for a few holes
CLOSE, ROUNDED_SECONDS = 0.002, 0.001  # of a rate; and what times in Matroska are rounded to


def packet_times(path: Path) -> tuple[NDArray[np.float64], int, float]:
    """The shown pictures' times, the number of packets of pictures, and where the last packet of any stream lies."""
    pts: list[int] = []
    packets, end = 0, 0.0
    with open_input(path) as container:
        stream = container.streams.video[0]
        base = float(stream.time_base or 1)
        try:
            for packet in container.demux():
                stamp = packet.dts if packet.pts is None else packet.pts
                if stamp is not None:
                    end = max(end, float(stamp * packet.time_base))
                if packet.stream.index != stream.index:
                    continue
                packets += stamp is not None or packet.size > 0
                if packet.size and not packet.is_discard:
                    pts.append(len(pts) if stamp is None else stamp)
        except av.error.FFmpegError:
            pass  # a truncated file keeps the frames before the break
    return np.asarray(np.unique(np.array(pts, np.int64)) * base, np.float64), packets, end


def usual_step(times: NDArray[np.float64], rate: Fraction) -> float:
    """Seconds from one picture to the next, by their times; by a rate where there is one picture."""
    steps = np.diff(times)
    return float(np.median(steps)) if len(steps) else float(1 / rate)


def usual_rate(times: NDArray[np.float64], told: Sequence[Fraction]) -> Fraction:
    """Stored frames a second: by the times, but for a few holes, and exactly as the file tells where one of the rates
    that are `told` agrees.
    """
    steps = np.diff(times)
    even = steps[np.abs(steps / np.median(steps) - 1) < UNEVEN]
    mostly = even if len(even) >= MOSTLY * len(steps) else steps
    measured, doubt = float(1 / mostly.mean()), CLOSE + ROUNDED_SECONDS / float(mostly.sum())
    agreeing = [rate for rate in told if abs(float(rate) / measured - 1) < doubt]
    return agreeing[0] if agreeing else Fraction(measured).limit_denominator(90_000)


def frames_missing(seconds: float, step: float) -> int:
    """Frames between the last packet and the length in the header, of files that do not count their frames."""
    return round(seconds / step) if seconds > MISSING_SECONDS else 0
