"""How long a camera takes to read its rows, from the points that a measurement followed."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.finding.read_motion import solved_readout
from keen_horizon.core.finding.read_pairs import ReadPairs, read_pairs
from keen_horizon.core.glass.shutter import SURE, UNKNOWN, Readout
from keen_horizon.core.motion.measurement import Measurement

KNOTS, ORDER = 1.5, 3  # controls a frame, and which of their differences are drawn to nothing
OTHER_KNOTS = ((2.0, 3), (3.0, 2))  # what the answer must not depend on
COARSE_KNOTS = 1.0  # a hand that jerks between frames tells quite another readout there: 39 % and more of it away,
COARSE_APART, COARSE_LEAST = 0.32, 0.05  # where one that vibrates is 28 % away at most (14 and 12 made-up motions)
STARTS, FIRST_STEPS, LAST_STEPS = (0.0, 0.6, -0.6), 6, 8
BELIEVED, SIGNAL = 0.3, 0.25  # least share of the points, and least motion that a readout makes, of the noise
LEAST_PAIRS = 24
MOST = 1.1  # a readout: what is longer is no camera's


def find_readout(measurement: Measurement, turns: int = 0) -> Readout:
    """The readout of a measured range; `turns` are the quarter turns that made the stored pictures upright."""
    pairs = read_pairs(measurement, turns)
    if len(pairs.frame) < LEAST_PAIRS:
        return UNKNOWN
    try:
        return _found(pairs)
    except np.linalg.LinAlgError:
        return UNKNOWN  # nothing but errors was followed


def _found(pairs: ReadPairs) -> Readout:
    fewer = pairs.thinned()
    best = min(
        (solved_readout(fewer, start, FIRST_STEPS, KNOTS, ORDER) for start in STARTS), key=lambda found: found.cost
    )
    best = solved_readout(pairs, best.readout, LAST_STEPS, KNOTS, ORDER)
    others = [solved_readout(pairs, best.readout, LAST_STEPS, knots, order).readout for knots, order in OTHER_KNOTS]
    every = [best.readout, *others]
    doubt = float(np.hypot(best.doubt, (max(every) - min(every)) / 2))
    coarse = solved_readout(pairs, best.readout, LAST_STEPS, COARSE_KNOTS, ORDER).readout
    smooth = abs(coarse - best.readout) < max(COARSE_LEAST, COARSE_APART * abs(best.readout))
    moved = best.signal > SIGNAL * float(np.median(pairs.noise)) and best.believed > BELIEVED
    told = smooth and moved and doubt < SURE and abs(best.readout) < MOST
    return Readout(best.readout, doubt, bool(told))
