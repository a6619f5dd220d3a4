"""Shots: between cuts, each is steadied by itself, and the results are laid end to end."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from keen_horizon.core.motion.measurement import Measurement


def shots(measurement: Measurement) -> Iterator[Measurement]:
    """The parts of a measurement between its cuts, in order; without cuts, itself."""
    ends = [int(pair) for pair in np.flatnonzero(measurement.cut)] + [len(measurement) - 1]
    start = 0
    for end in ends:
        yield measurement.part(measurement.first + start, measurement.first + end)
        start = end + 1
