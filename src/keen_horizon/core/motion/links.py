"""What a measuring run gathers: matches between frames, how good they were, and the frames matched to."""

from __future__ import annotations

from dataclasses import dataclass

from keen_horizon.core.motion.robust import Fit
from keen_horizon.core.motion.tracking import Gray, Points


@dataclass(frozen=True)
class Link:
    """A match of frame `target` to the earlier frame `source`: the fit's motions and its centre."""

    source: int
    target: int
    z: complex
    t: complex
    tilted_z: complex
    tilted_t: complex
    tilt: complex
    centre: complex

    @staticmethod
    def none(source: int, target: int, centre: complex) -> Link:
        """A link that knows nothing of how the frames moved."""
        return Link(source, target, 1 + 0j, 0j, 1 + 0j, 0j, 0j, centre)

    @staticmethod
    def of(source: int, target: int, fit: Fit) -> Link:
        """The link that a fit makes."""
        return Link(source, target, fit.z, fit.t, fit.tilted_z, fit.tilted_t, fit.tilt, fit.centre)


@dataclass
class Key:
    """A frame that later ones are matched to."""

    number: int
    gray: Gray
    corners: Points


@dataclass
class PairQuality:
    """How well frames n and n + 1 could be matched."""

    tracked: int
    inliers: int
    residual: float
    cut: bool
    blind: bool
    repeated: bool
