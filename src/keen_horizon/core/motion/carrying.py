"""What is lost for a while, carried by the measured motion of its surroundings.

A sign that people walk past stands still in the scene: where it was last seen and where it is seen next, the camera's
poses say where it lay in between, and where to look for it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.motion.belief.labels import BACKGROUND
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import Trail, bridged
from keen_horizon.core.treatment.motion import Mark

NEIGHBOURS = 6  # points around a mark that are asked what they do
NEARBY = 1 / 12  # of the picture's longer side: points further away say nothing of a place


@dataclass(frozen=True)
class Carrier:
    """Carries points of display pixels between frames from clip number `first`, by poses scene_from_frame (N,)."""

    first: int
    poses: Similarities

    @staticmethod
    def by(measurement: Measurement) -> Carrier:
        """By a measured range."""
        return Carrier(measurement.first, measurement.poses)

    def moved(self, points: Complex, start: int, end: int) -> Complex:
        """Points of frame `start` in frame `end`, clip numbering; where they were outside of the range."""
        last = self.first + len(self.poses) - 1
        if not (self.first <= min(start, end) and max(start, end) <= last):
            return points
        here, there = start - self.first, end - self.first
        scene = self.poses.z[here] * points + self.poses.t[here]
        return np.asarray((scene - self.poses.t[there]) / self.poses.z[there])

    def whole(self, trail: Trail, first: int) -> Trail:
        """A trail of frames from `first` with its lost stretches carried, still marked as lost."""
        start = first - self.first
        if start < 0 or start + len(trail.points) > len(self.poses):
            return bridged(trail)
        return carried(trail, self.poses[start : start + len(trail.points)])


def carried(trail: Trail, poses: Similarities) -> Trail:
    """A trail whose lost stretches go on evenly in the scene, while the camera moves by `poses` (N,), scene_from_frame.

    Still marked as lost.
    """
    scene = bridged(Trail(poses.z * trail.points + poses.t, trail.confidence)).points
    return Trail(np.where(trail.confidence > 0, trail.points, (scene - poses.t) / poses.z), trail.confidence)


def stands_still(measurement: Measurement, mark: Mark) -> bool:
    """Whether what is seen at a mark is taken to stand still: most of the points around it are, or none is told."""
    evidence = measurement.evidence
    if not len(evidence.layer) or not measurement.first <= mark.frame <= measurement.last:
        return False
    pair = min(mark.frame - measurement.first, len(measurement) - 2)
    rows = slice(int(evidence.starts[pair]), int(evidence.starts[pair + 1]))
    away = np.hypot(*(evidence.points[rows] - (mark.x, mark.y)).T)
    near = np.argsort(away)[:NEIGHBOURS]
    near = near[away[near] < NEARBY * max(measurement.size.width, measurement.size.height)]
    layer = evidence.layer[rows][near]
    return bool((layer == BACKGROUND).sum() >= (layer > BACKGROUND).sum())
