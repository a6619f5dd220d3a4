"""An area that goes with what is in it: from frame to frame, both ways from where it was drawn, by the kept points.

It goes with its own points: those inside it where it was drawn, and others that have gone along with them for a while.
So what passes in front of it, which comes from outside and goes on, does not take it along. While none of its points
are seen it goes on as it went before, beside what stands still or by itself, whichever was the steadier.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.geometry.similarity import Complex, Floats, as_complex, as_points, fit_similarity
from keen_horizon.core.motion.belief.labels import BACKGROUND
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement

ROUNDS = 5
LEAST_SPREAD_PX = 0.3  # at 640 wide
TURNS_FROM = 4  # points: fewer tell a shift alone
FEW = 2  # own points, below which they tell nothing
OF_ITSELF = 0.125  # of the points inside, that are not of what is around: the area is drawn around them
AGREES_PX = 0.8  # at 640 wide, that a point may be off the area's motion
JOINS_AFTER = 4  # pairs that a point must have agreed for, and at most a quarter as many disagreed
REMEMBERED = 20  # pairs over which it is told how an area goes
FLAT_PX = 1e-6  # a side of a polygon that rises by less crosses no row

Motion = tuple[complex, complex]  # z, t of p -> z p + t


def followed(measurement: Measurement, frames: NDArray[np.intp], shapes: list[Complex]) -> Complex:
    """The polygons (N, C) of an area drawn as `shapes` on `frames`, counted from the range's first.

    Between two of them it goes from the one's way over to the other's.
    """
    count = len(measurement)
    inside = [int(np.clip(frame, 0, count - 1)) for frame in frames]
    found = np.zeros((count, len(shapes[0])), np.complex128)
    weight = np.zeros(count)
    for number, (start, shape) in enumerate(zip(inside, shapes, strict=True)):
        earlier = inside[number - 1] if number else 0
        later = inside[number + 1] if number + 1 < len(inside) else count - 1
        for end in (earlier, later):
            if end == start and (number, len(inside)) != (0, 1):
                continue
            way = _walked(measurement, shape, start, end)
            open_end = (end == later and number + 1 == len(inside)) or (end == earlier and number == 0)
            share = np.ones(len(way)) if open_end else np.linspace(1, 0, len(way))
            places = np.arange(start, end + 1) if end >= start else np.arange(start, end - 1, -1)
            found[places] += share[:, None] * way
            weight[places] += share
    return np.asarray(found / np.maximum(weight, 1e-9)[:, None])


@dataclass(frozen=True)
class Steps:
    """The points of a pair on their way: where they are `here` and `there` (P,), their `identity`, and `label`."""

    here: Complex
    there: Complex
    identity: NDArray[np.int32]
    label: NDArray[np.int32]

    @staticmethod
    def of(measurement: Measurement, pair: int, forward: bool) -> Steps:
        """Those of a pair, forwards or backwards."""
        evidence = measurement.evidence
        rows = slice(int(evidence.starts[pair]), int(evidence.starts[pair + 1]))
        ends = as_complex(evidence.points[rows]), as_complex(evidence.moved[rows])
        here, there = ends if forward else ends[::-1]
        return Steps(here, there, evidence.identity[rows], evidence.layer[rows])


class _Members:
    """Which tracks (I,) belong to an area: those it was drawn around, and those that have gone along with them."""

    def __init__(self, count: int) -> None:
        self._own = np.zeros(count, np.bool_)
        self._agreed, self._disagreed = np.zeros(count, np.intp), np.zeros(count, np.intp)

    def begin(self, steps: Steps, within: NDArray[np.bool_]) -> None:
        """Those inside where it was drawn: of the layer that most are of, if some are not of what is around."""
        inside = np.flatnonzero(within)
        apart = inside[steps.label[inside] != BACKGROUND]
        if len(apart) >= max(FEW, OF_ITSELF * len(inside)):
            inside = apart
        if len(inside):
            names, many = np.unique(steps.label[inside], return_counts=True)
            if many.max() >= len(inside) / 2:
                inside = inside[steps.label[inside] == names[many.argmax()]]
        self._own[steps.identity[inside]] = True

    def among(self, steps: Steps) -> NDArray[np.bool_]:
        """Which points (P,) belong to it."""
        return np.asarray(self._own[steps.identity])

    def judge(self, steps: Steps, within: NDArray[np.bool_], motion: Motion, unit: float) -> None:
        """Note which points inside go along with it: those that do for a while belong to it, as long as they do."""
        z, t = motion
        along = np.abs(z * steps.here + t - steps.there) < AGREES_PX * unit
        self._agreed[steps.identity[within & along]] += 1
        self._disagreed[steps.identity[within & ~along]] += 1
        inside = steps.identity[within]
        agreed, disagreed = self._agreed[inside], self._disagreed[inside]
        self._own[inside[(agreed >= JOINS_AFTER) & (4 * disagreed <= agreed)]] = True
        self._own[inside[(disagreed >= JOINS_AFTER) & (disagreed > agreed)]] = False


class _Way:
    """How an area went lately: by itself, and beside what stands still."""

    def __init__(self) -> None:
        self._by_itself: deque[complex] = deque(maxlen=REMEMBERED)
        self._beside: deque[complex] = deque(maxlen=REMEMBERED)

    def note(self, middle: complex, motion: Motion, still: Motion) -> None:
        """One step of the area's middle, and how what stands still moved there."""
        self._by_itself.append(_shift(middle, motion))
        self._beside.append(_shift(middle, motion) - _shift(middle, still))

    def onward(self, middle: complex, still: Motion) -> Motion:
        """How it goes on unseen."""
        if not self._by_itself:
            return still
        itself, beside = np.array(self._by_itself), np.array(self._beside)
        if itself.var() < beside.var():
            return 1 + 0j, complex(itself.mean())
        z, t = still
        return z, t + complex(beside.mean())


def _shift(middle: complex, motion: Motion) -> complex:
    z, t = motion
    return z * middle + t - middle


def _walked(measurement: Measurement, shape: Complex, start: int, end: int) -> Complex:
    """Polygons from frame `start` to frame `end`, either way, as what is in them goes."""
    way, unit = [shape], analysed_unit(measurement.size)
    members, past = _Members(int(measurement.evidence.identity.max(initial=-1)) + 1), _Way()
    step = 1 if end >= start else -1
    for place in range(start, end, step):
        pair = place if step > 0 else place - 1
        steps = Steps.of(measurement, pair, forward=step > 0)
        within = _within(as_points(steps.here), as_points(way[-1]))
        if place == start:
            members.begin(steps, within)
        middle, still = complex(way[-1].mean()), _still(measurement, pair, forward=step > 0)
        own = within & members.among(steps)
        motion = _moved(steps, own, unit) if own.sum() >= FEW else past.onward(middle, still)
        if own.sum() >= FEW:
            past.note(middle, motion, still)
        members.judge(steps, within, motion, unit)
        way.append(motion[0] * way[-1] + motion[1])
    return np.array(way)


def _still(measurement: Measurement, pair: int, forward: bool) -> Motion:
    """How what stands still moves over a pair."""
    z, t = complex(measurement.pairs.z[pair]), complex(measurement.pairs.t[pair])
    return (z, t) if forward else (1 / z, -t / z)


def _moved(steps: Steps, own: NDArray[np.bool_], unit: float) -> Motion:
    """How most of an area's own points move."""
    source, target = steps.here[own], steps.there[own]
    shift = complex(np.median((target - source).real) + 1j * np.median((target - source).imag))
    if own.sum() < TURNS_FROM:
        return 1 + 0j, shift
    z, t = 1 + 0j, shift
    for _ in range(ROUNDS):
        errors = np.abs(z * source + t - target)
        spread = max(LEAST_SPREAD_PX * unit, 1.2 * float(np.median(errors)))
        weights = tukey(errors, spread)
        if (weights > 0).sum() < TURNS_FROM:
            return 1 + 0j, shift
        z, t = fit_similarity(source, target, weights)
    return (z, t) if 0.8 < abs(z) < 1.25 else (1 + 0j, shift)


def _within(points: Floats, polygon: Floats) -> NDArray[np.bool_]:
    """Whether points (P, 2) lie inside a polygon (C, 2), by the even-odd rule."""
    x, y = points[:, 0][:, None], points[:, 1][:, None]
    x1, y1 = polygon[:, 0][None], polygon[:, 1][None]
    x2, y2 = np.roll(polygon[:, 0], -1)[None], np.roll(polygon[:, 1], -1)[None]
    crosses = (y1 > y) != (y2 > y)
    rise = np.where(np.abs(y2 - y1) < FLAT_PX, 1.0, y2 - y1)
    left = x < x1 + (y - y1) * (x2 - x1) / rise
    return np.asarray((crosses & left).sum(1) % 2 == 1)
