"""Points as rows that are read one after another show them, for tests of the rolling shutter; without pictures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_points
from keen_horizon.core.glass.shutter import row_shares
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement

SIZE = Size(640, 360)
COUNT, POINTS = 80, 80

EVEN = np.arange(COUNT, dtype=float)

Motion = Callable[[np.ndarray], Similarities]


def seen(
    poses_at: Motion,
    readout: float,
    noise: float = 0.1,
    turns: int = 0,
    seed: int = 0,
    frames: np.ndarray = EVEN,
) -> Measurement:
    """What a perfect tracker follows: points of consecutive frames, each found where and when its row was read.

    `frames` (COUNT,) are when they were filmed, in frames: some may be missing, or others last longer.
    """
    random = np.random.default_rng(seed)
    sources, targets = [], []
    for frame, later in pairwise(frames):
        source = random.uniform(10, SIZE.width - 10, POINTS) + 1j * random.uniform(10, SIZE.height - 10, POINTS)
        world = placed(poses_at, frame, source, readout, turns)
        target = source
        for _ in range(8):
            now = poses_at(later + readout * shares(target, turns))
            target = (world - now.t) / now.z
        errors = random.normal(0, noise, (2, POINTS))
        sources.append(as_points(source))
        targets.append(as_points(target + errors[0] + 1j * errors[1]))
    rows = (np.concatenate(points).astype(np.float32) for points in (sources, targets))
    starts = np.arange(COUNT) * POINTS
    evidence = Evidence(starts, next(rows), np.ones(len(starts[1:]) * POINTS, np.bool_), next(rows), Matches.none())
    return replace(Measurement.still(SIZE, 0, frames / 25), evidence=evidence)


def shares(points: np.ndarray, turns: int) -> np.ndarray:
    return row_shares(points - SIZE.centre, SIZE.width, SIZE.height, turns)


def placed(poses_at: Motion, frame: float, points: np.ndarray, readout: float, turns: int) -> np.ndarray:
    poses = poses_at(frame + readout * shares(points, turns))
    return poses.z * points + poses.t


def jittering(seed: int, degrees: float) -> Motion:
    """A hand that jerks anew at every frame, and moves straight on in between."""
    random = np.random.default_rng(seed)
    moments = np.arange(-3, COUNT + 3)
    turns = np.radians(random.normal(0, degrees, len(moments)))
    shift = 1000 * np.radians(random.normal(0, degrees, (len(moments), 2))) @ np.array([1, 1j])

    def at(times: np.ndarray) -> Similarities:
        z = np.exp(1j * np.interp(times, moments, turns))
        t = np.interp(times, moments, shift.real) + 1j * np.interp(times, moments, shift.imag)
        return Similarities(z, t + SIZE.centre - z * SIZE.centre)

    return at
