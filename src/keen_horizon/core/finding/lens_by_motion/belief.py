"""What is believed of points: how far each match's are spread, what each counts, and what matches usually do."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keen_horizon.core.finding.followed_noise import RAYLEIGH
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints
from keen_horizon.core.finding.lens_by_motion.residuals import LOCALS, Sight, State
from keen_horizon.core.geometry.robust import tukey, tukey_loss
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.motion.matched import row_medians

CORRELATED = 3.0  # errors of tracks go together: they count as with so many times their noise
WIDER = 1.2  # than its noise is taken a match's spread, so that what fits keeps its weight
TURN_SPREAD = 30.0  # radians: no match is quite without a prior
PAIR_GROWTH, MATCH_GROWTH = 0.01, 0.05  # by how much a picture grows that is not the camera's travel
STRAY_SHARE = 0.5  # of the usual travel, by which that of a match differs from it: steps, stops, sways
LEAST_STRAY = 1e-6


@dataclass(frozen=True)
class Belief:
    """How far each match's points are `spread` (E,), half-diagonals, and what each counts (E, M), by Tukey's biweight
    (Holland & Welsch 1977). `stray` is by how much a match's travel may differ from the usual one.
    """

    spread: Floats
    weights: Floats
    stray: float

    @staticmethod
    def by(seen: Sight, walks: bool) -> Belief:
        """What a state's errors make believe."""
        points, lengths = seen.points, np.abs(seen.errors)
        spread = np.maximum(points.noise, row_medians(lengths, points.there) / RAYLEIGH)
        weights = np.where(points.there, tukey(lengths, WIDER * spread[:, None]), 0.0)
        usual = float(np.linalg.norm(seen.state.camera.travel))
        return Belief(spread, weights, LEAST_STRAY + (STRAY_SHARE * usual if walks else 0.0))

    @property
    def trust(self) -> Floats:
        """One over the variance that each point counts with (E, M)."""
        return self.weights / (CORRELATED * self.spread[:, None]) ** 2

    def cost(self, seen: Sight) -> float:
        """What a state leaves of the points and asks of the matches, judged by these spreads."""
        of_points = WIDER**2 * tukey_loss(np.abs(seen.errors), WIDER * self.spread[:, None])
        of_matches = own_values(seen.state) / own_spread(seen.points, self)
        return float(of_points[seen.points.there].sum()) / CORRELATED**2 + float((of_matches**2).sum()) / 2


def own_spread(points: TurnedPoints, belief: Belief) -> Floats:
    """By how much each match's figures differ from nothing (E, LOCALS)."""
    consecutive = np.arange(len(points.frames)) < points.pairs
    spread = np.full((len(consecutive), LOCALS), belief.stray)
    spread[:, :3] = TURN_SPREAD
    spread[:, 3] = np.where(consecutive, PAIR_GROWTH, MATCH_GROWTH)
    return spread


def own_values(state: State) -> Floats:
    """Those of a match's figures that are drawn to nothing (E, LOCALS); turns are not."""
    return np.column_stack([np.zeros((len(state.growth), 3)), state.growth, state.strayed])
