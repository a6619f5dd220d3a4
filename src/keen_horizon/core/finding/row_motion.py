"""How every frame's rows moved against its middle row, for a readout that is known: what undoes a rolling shutter."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.finding.read_motion import solved_motion
from keen_horizon.core.finding.read_pairs import moments, straight_pairs
from keen_horizon.core.glass.shutter import NODES, RowMotion
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement

KNOTS, ORDER, STEPS = 1.5, 3, 8  # as the readout itself is found; it settles after three to seven


@kept_lately
def row_motion(measurement: Measurement, stage: OpticsStage | None, readout: float) -> RowMotion | None:
    """The rows' motion on the picture that a lens's `stage` straightens; None where nothing could be followed."""
    turns = measurement.readout.turns
    pairs = straight_pairs(measurement, turns, stage)
    if not len(pairs.began):
        return None
    try:
        motion = solved_motion(pairs, readout, STEPS, KNOTS, ORDER)
    except np.linalg.LinAlgError:
        return None
    middle = moments(measurement)[:, None]
    apart = motion.at(middle + readout * np.linspace(-0.5, 0.5, NODES)) - motion.at(middle)
    for copy in np.flatnonzero(measurement.repeated):
        apart[copy + 1] = apart[copy]  # it shows what was read for the frame before
    figures = analysed_unit(measurement.size) * apart
    return RowMotion(figures, measurement.size, turns, np.ones(len(figures)))
