"""Camera motion made up without pictures, for tests of the path."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.levels import UPRIGHTS, Levels
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment

HD = Size(1280, 720)


def walked(count: int, seed: int, strength: float = 1.0, size: Size = HD, pan: float = 2.0) -> Measurement:
    """A measurement of band-limited shake over a pan, without pictures."""
    random = np.random.default_rng(seed)
    kernel = np.exp(-(np.arange(-6, 7) ** 2) / 8.0)
    kernel /= kernel.sum()

    def smooth(spread: float) -> np.ndarray:
        return np.convolve(random.standard_normal(count + 12) * spread, kernel, "valid")

    z = np.exp(smooth(0.004 * strength) + 1j * smooth(0.012 * strength))
    t = smooth(25 * strength) + 1j * smooth(25 * strength) + np.arange(count) * pan
    poses = Similarities(z, t).about(-size.centre)
    pairs = poses[1:].inverse() @ poses[:-1]
    none = np.zeros(count - 1, int)
    tilts = (smooth(4e-6 * strength) + 1j * smooth(4e-6 * strength)) * 1280 / size.width
    none_seen = np.zeros((0, 2), np.float32)
    evidence = Evidence(np.zeros(count, np.int64), none_seen, np.zeros(0, bool), none_seen, Matches.none())
    times = np.arange(count) / 30
    levels = Levels(np.angle(z), np.full(count, 1e-3), np.full(count, UPRIGHTS, np.int8))
    return Measurement(
        size=size, first=0, times=times, pairs=pairs, poses=poses, tilted_poses=poses, tilts=tilts, levels=levels,
        tracked=none, inliers=none, residual=none * 1.0, cut=none > 0, blind=none > 0, repeated=none > 0,
        evidence=evidence,
    )  # fmt: skip


def moved(measurement: Measurement, poses: Similarities, **others: object) -> Measurement:
    """The same measurement, moved otherwise."""
    return replace(measurement, poses=poses, tilted_poses=poses, **others)


def treated(measurement: Measurement, motion: dict | None = None, edges: dict | None = None) -> CameraPath:
    return solve_path(measurement, Treatment.from_json({"motion": motion or {}, "edges": edges or {}}))
