"""How long a camera takes to read its rows, from the points that a measurement followed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import TypeVar

import numpy as np

from keen_horizon.core.finding.read_motion import SolvedReadout, solved_readout
from keen_horizon.core.finding.read_pairs import ReadPairs, read_pairs
from keen_horizon.core.glass.shutter import SURE, UNKNOWN, Readout
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.motion.measurement import Measurement

KNOTS, ORDER = 1.5, 3  # controls a frame, and which of their differences are drawn to nothing
OTHER_KNOTS = ((2.0, 3), (3.0, 2))  # what the answer must not depend on
COARSE_KNOTS = 1.0  # a hand that jerks between frames tells quite another readout there: 39 % and more of it away,
COARSE_APART, COARSE_LEAST = 0.32, 0.05  # where one that vibrates is 28 % away at most (14 and 12 made-up motions)
STARTS, FIRST_STEPS, LAST_STEPS = (0.0, 0.6, -0.6), 6, 8
BELIEVED, SIGNAL = 0.3, 0.25  # least share of the points, and least motion that a readout makes, of the noise
LEAST_PAIRS = 24
FISHEYES = (0.8, 1.3, 1.9, 2.6)  # w of equidistant ones: 102, 131, 158 and 185 degrees from corner to corner
CLEAR = 0.9  # of what a flat picture leaves; made-up lenses of 95 degrees leave 0.5-0.8, of 135 a half and less
HOPELESS = 1.1  # likewise of the narrowest fisheye: no wider one leaves less then
MOST = 1.1  # a readout: what is longer is no camera's

Item = TypeVar("Item")
Solved = TypeVar("Solved")


def find_readout(measurement: Measurement, turns: int = 0) -> Readout:
    """The readout of a measured range; `turns` are the quarter turns that made the stored pictures upright.

    The picture may be bent by a wide lens, behind which a flat one tells up to 0.04 too much and is sure of it: where a
    fisheye explains the points clearly better, they are looked at through the one that explains them best.
    """
    pairs = read_pairs(measurement, turns)
    unknown = replace(UNKNOWN, turns=turns)
    if len(pairs.began) < LEAST_PAIRS:
        return unknown
    try:
        best = _best(pairs)
        straight = _through_fisheye(measurement, turns, pairs, best)
        found = _judged(pairs, best) if straight is None else _judged(straight, _best(straight))
    except np.linalg.LinAlgError:
        return unknown  # nothing but errors was followed
    return replace(found, turns=turns)


def _best(pairs: ReadPairs) -> SolvedReadout:
    fewer = pairs.thinned()
    return min(_at_once(lambda start: _near(fewer, start), STARTS), key=lambda found: found.cost)


def _near(pairs: ReadPairs, start: float) -> SolvedReadout:
    return solved_readout(pairs, start, FIRST_STEPS, KNOTS, ORDER)


def _at_once(solve: Callable[[Item], Solved], items: Iterable[Item]) -> list[Solved]:
    """What is solved from each item, in threads: 1.5-1.9 x as fast on two cores, since NumPy lets others run."""
    with ThreadPoolExecutor() as threads:
        return list(threads.map(solve, items))


def _judged(pairs: ReadPairs, near: SolvedReadout) -> Readout:
    """How far an answer can be believed: not where it is unsure of itself, nor where it depends on the spline."""
    best = solved_readout(pairs, near.readout, LAST_STEPS, KNOTS, ORDER)
    moved = best.signal > SIGNAL * float(np.median(pairs.noise)) and best.believed > BELIEVED
    if not moved or best.doubt >= SURE or abs(best.readout) >= MOST:
        return Readout(best.readout, best.doubt, False)
    splines = (*OTHER_KNOTS, (COARSE_KNOTS, ORDER))
    solved = _at_once(lambda spline: solved_readout(pairs, best.readout, LAST_STEPS, *spline), splines)
    *others, coarse = (found.readout for found in solved)
    every = [best.readout, *others]
    doubt = float(np.hypot(best.doubt, (max(every) - min(every)) / 2))
    smooth = abs(coarse - best.readout) < max(COARSE_LEAST, COARSE_APART * abs(best.readout))
    return Readout(best.readout, doubt, bool(smooth and doubt < SURE))


def _through_fisheye(measurement: Measurement, turns: int, pairs: ReadPairs, flat: SolvedReadout) -> ReadPairs | None:
    """The points through the fisheye that leaves least; None where a flat picture leaves hardly more."""

    def seen_through(bend: float) -> ReadPairs:
        glass = LensStage(Lens("equidistant", (bend,)), measurement.size, 1.0)
        return read_pairs(measurement, turns, OpticsStage(measurement.first, (glass,)))

    def cost(bend: float) -> float:
        alike = replace(seen_through(bend), noise=pairs.noise)  # a false lens takes what it bends for noise
        return _near(alike.thinned(), flat.readout).cost

    narrowest, *wider = FISHEYES
    costs = {narrowest: cost(narrowest)}
    if costs[narrowest] >= HOPELESS * flat.cost:
        return None
    costs |= zip(wider, _at_once(cost, wider), strict=True)
    best = min(costs, key=costs.__getitem__)
    if costs[best] >= CLEAR * flat.cost:
        return None
    between = [(best + other) / 2 for other in _beside(best)]
    costs |= zip(between, _at_once(cost, between), strict=True)
    return seen_through(min(costs, key=costs.__getitem__))


def _beside(bend: float) -> list[float]:
    """The fisheyes next to one."""
    at = FISHEYES.index(bend)
    return [FISHEYES[i] for i in (at - 1, at + 1) if 0 <= i < len(FISHEYES)]
