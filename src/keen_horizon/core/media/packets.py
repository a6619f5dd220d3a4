"""When a file's packets say that its pictures are shown, and how many are missing."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.media.containers import open_input

MISSING_SECONDS = 1.0
UNEVEN, MOSTLY = 0.1, 0.9  # of a step between pictures, and of the steps: a rate that holds but for a few holes


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


def usual_rate(times: NDArray[np.float64], told: Fraction) -> Fraction:
    """Stored frames a second: as the file tells where its times agree but for a few holes, else as they say."""
    steps = np.diff(times)
    steady = float((np.abs(steps * float(told) - 1) < UNEVEN).mean()) >= MOSTLY
    measured = (len(times) - 1) / float(times[-1] - times[0])
    agrees = abs(float(told) / measured - 1) < 0.002
    return told if agrees or steady else Fraction(measured).limit_denominator(90_000)


def frames_missing(seconds: float, step: float) -> int:
    """Frames between the last packet and the length in the header, of files that do not count their frames."""
    return round(seconds / step) if seconds > MISSING_SECONDS else 0
