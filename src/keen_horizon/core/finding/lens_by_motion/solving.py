"""A state made better, all of it at once, by damped Gauss-Newton steps (Nocedal & Wright 2006, ch. 10).

The nearness of every track concerns that track only: it is eliminated (Schur's complement) before the camera and what
is each match's own are solved for, densely. Errors are believed by Tukey's biweight (Holland & Welsch 1977) of each
match's own spread. Straight things, where there are any, add what they say of the lens.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from scipy.linalg import cho_factor, cho_solve
from scipy.sparse import csr_array

from keen_horizon.core.finding.followed_noise import RAYLEIGH
from keen_horizon.core.finding.lens_by_motion.camera import TurningCamera
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints
from keen_horizon.core.finding.lens_by_motion.residuals import LOCALS, STANDING, Moments, Sight, State, sight
from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.geometry.similarity import Complex, Floats
from keen_horizon.core.motion.matched import row_medians

CORRELATED = 3.0  # errors of tracks go together: they count as with so many times their noise
WIDER = 1.2  # than its noise is taken a match's spread, so that what fits keeps its weight
PAIR_GROWTH, MATCH_GROWTH = 0.01, 0.05  # by how much a picture grows that is not the camera's travel
NEARNESS_SPREAD = 0.5
STRAY_SHARE = 0.5  # of the usual travel, by which that of a match differs from it: steps, stops, sways
LEAST_STRAY = 1e-6
TURN_SPREAD = 30.0  # radians: no match is quite without a prior
STEPS_OF_A_KIND = 5  # dampings tried in one step
LONGEST = {"k": 0.3, "centre": 0.03, "focal": 0.4, "readout": 0.3, "travel": 0.003}  # of one step
SETTLED = 2e-4


class StraightThings(Protocol):
    """What straight things say of a camera's lens, with the curvature and the slope of that by its first figures."""

    def cost(self, camera: TurningCamera) -> float:
        """How badly it straightens them."""

    def normal(self, camera: TurningCamera) -> tuple[Floats, Floats]:
        """The normal matrix (S, S) and right-hand side (S,) of the lens's shape."""


@dataclass(frozen=True)
class Belief:
    """How far each match's points are `spread` (E,), half-diagonals, and what each counts (E, M), by a state.

    `stray` is by how much a match's travel may differ from the usual one.
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
        return Belief(spread, weights, STRAY_SHARE * usual + LEAST_STRAY if walks else LEAST_STRAY)


@dataclass(frozen=True)
class Solved:
    """A state, what is left of the points (E, M), half-diagonals, and the inverse of how uncertain the camera's figures
    are, (P, P). `unexplained` is what is left over the points' noise, and `agreeing` the share of them that count.
    """

    state: State
    lengths: Floats
    information: Floats
    unexplained: float
    agreeing: float


def solved(
    points: TurnedPoints, state: State, *, walks: bool, steps: int, lines: StraightThings | None = None
) -> Solved:
    """The best state near one, after some steps at most; a camera that `walks` passes near things faster than far ones.

    Raises LinAlgError where the points tell nothing.
    """
    damping = 1e-3
    for _ in range(steps):
        problem = _Problem(points, state, walks, lines)
        better = problem.step(damping)
        if better is None:
            break
        state, damping, change = better
        if change < SETTLED:
            break
    problem = _Problem(points, state, walks, lines)
    belief = problem.belief
    return Solved(
        state=state,
        lengths=np.abs(problem.seen.errors),
        information=problem.information(),
        unexplained=float(np.median(belief.spread / points.noise)),
        agreeing=float((belief.weights > 0).sum() / max(1, points.there.sum())),
    )


class _Problem:
    """The normal equations at a state, and the steps that they propose."""

    def __init__(self, points: TurnedPoints, state: State, walks: bool, lines: StraightThings | None) -> None:
        self.points, self.state, self.walks, self.lines = points, state, walks, lines
        self.moments = Moments.of(points, state)
        self.seen = Sight(points, state, self.moments.since_middle(state.camera.readout))
        self.belief = Belief.by(self.seen, walks)
        self.shared = len(state.camera.figures)
        self.own = LOCALS if walks else STANDING
        self._assemble()

    def _assemble(self) -> None:
        """The normal matrix of camera and matches, and its right-hand side; nearness apart."""
        seen, points = self.seen, self.points
        trust = self.belief.weights / (CORRELATED * self.belief.spread[:, None]) ** 2
        own, shared = (
            seen.own_columns()[..., : self.own],
            seen.shared_columns(self.moments.rates(self.state.camera.readout)),
        )
        errors = seen.errors
        self._of_matches(own, trust, errors)
        weighted = np.conj(shared) * trust[..., None]
        whole = np.einsum("emp,emq->pq", weighted, shared, optimize=True).real
        between = (np.conj(own) * trust[..., None]).swapaxes(1, 2) @ shared
        wanted = -np.einsum("emp,em->p", weighted, errors, optimize=True).real
        usual, spread = self.state.camera.usual
        whole += np.diag(spread**-2.0)
        wanted += (usual - self.state.camera.figures) / spread**2
        if self.lines is not None:
            of_lines, by_lines = self.lines.normal(self.state.camera)
            whole[: len(by_lines), : len(by_lines)] += of_lines
            wanted[: len(by_lines)] += by_lines
        first = self.shared
        size = first + self.own * len(points.frames)
        normal = np.zeros((size, size))
        normal[:first, :first] = whole
        normal[first:, :first] = between.real.reshape(-1, first)
        normal[:first, first:] = normal[first:, :first].T
        for start, block in zip(range(first, size, self.own), self.blocks, strict=True):
            normal[start : start + self.own, start : start + self.own] = block
        self.normal, self.wanted = normal, np.r_[wanted, self.of_matches.ravel()]
        self._tie_nearness(own, shared, trust, errors)

    def _of_matches(self, own: Complex, trust: Floats, errors: Complex) -> None:
        """What concerns each match alone: blocks (E, L, L), right-hand sides (E, L)."""
        weighted = (np.conj(own) * trust[..., None]).swapaxes(1, 2)
        self.blocks = (weighted @ own).real
        self.of_matches = -(weighted @ errors[..., None])[..., 0].real
        spread = self._own_spread()[:, : self.own]
        self.blocks += spread[:, :, None] ** -2.0 * np.eye(self.own)
        self.of_matches -= self._own_values(self.state)[:, : self.own] * spread**-2.0

    def _own_spread(self) -> Floats:
        """By how much each match's figures differ from nothing (E, LOCALS)."""
        consecutive = np.arange(len(self.points.frames)) < self.points.pairs
        spread = np.full((len(consecutive), LOCALS), self.belief.stray)
        spread[:, :3] = TURN_SPREAD
        spread[:, 3] = np.where(consecutive, PAIR_GROWTH, MATCH_GROWTH)
        return spread

    @staticmethod
    def _own_values(state: State) -> Floats:
        """Those of a match's figures that are drawn to nothing (E, LOCALS); turns are not."""
        return np.column_stack([np.zeros((len(state.growth), 3)), state.growth, state.strayed])

    def _tie_nearness(self, own: Complex, shared: Complex, trust: Floats, errors: Complex) -> None:
        """How every track's nearness is tied to what else is looked for, and its own stiffness and pull (T,)."""
        points, tracks = self.points, self.points.tracks
        if not self.walks:
            self.ties, self.stiffness, self.pull = (
                csr_array((tracks, len(self.wanted))),
                np.ones(tracks),
                np.zeros(tracks),
            )
            return
        near = np.conj(self.seen.near_column()) * trust
        track = points.track[points.there]

        def of_tracks(values: Complex) -> Floats:
            return np.asarray(np.bincount(track, values.real[points.there], tracks), np.float64)

        drawn = NEARNESS_SPREAD**-2.0
        self.stiffness = of_tracks(near * self.seen.near_column()) + drawn
        self.pull = of_tracks(near * errors) + drawn * (self.state.nearness - 1)
        match = np.broadcast_to(np.arange(len(points.frames))[:, None], points.there.shape)[points.there]
        columns = self.shared + self.own * match[:, None] + np.arange(self.own)
        to_own = (near[..., None] * own).real[points.there]
        to_shared = np.stack([of_tracks(near * shared[..., i]) for i in range(self.shared)], -1)
        rows = np.r_[np.repeat(track, self.own), np.repeat(np.arange(tracks), self.shared)]
        places = np.r_[columns.ravel(), np.tile(np.arange(self.shared), tracks)]
        values = np.r_[to_own.ravel(), to_shared.ravel()]
        self.ties = csr_array((values, (rows, places)), shape=(tracks, len(self.wanted)))

    def without_nearness(self, stiffness: Floats) -> tuple[Floats, Floats]:
        """The normal matrix, less what every track's own nearness explains, and its right-hand side."""
        if not self.walks:
            return self.normal.copy(), self.wanted
        eased = self.ties.multiply(1 / stiffness[:, None]).tocsr()
        return self.normal - (self.ties.T @ eased).toarray(), self.wanted + eased.T @ self.pull

    def information(self) -> Floats:
        """What is known of the camera's figures (P, P), everything else free."""
        first = self.shared
        normal, _ = self.without_nearness(self.stiffness)
        crossing = normal[:first, first:]
        return np.asarray(normal[:first, :first] - crossing @ np.linalg.solve(normal[first:, first:], crossing.T))

    def step(self, damping: float) -> tuple[State, float, float] | None:
        """A state that leaves less, the damping to go on with, and how far the lens changed; None if there is none."""
        cost = self._cost(self.state)
        longest = self._longest()
        for _ in range(STEPS_OF_A_KIND):
            shared, own, nearness = self._proposed(damping, longest)
            tried = self.state.moved(shared, own, nearness)
            if self._cost(tried) < cost:
                return tried, damping / 10, float(np.abs(shared[: self.state.camera.shape + 1]).max())
            damping = max(10 * damping, 1e-3)
        return None

    def _proposed(self, damping: float, longest: Floats) -> tuple[Floats, Floats, Floats]:
        """Changes of the camera's figures, of the matches' own (E, LOCALS), and of nearness (T,)."""
        first, stiffness = self.shared, (1 + damping) * self.stiffness
        normal, wanted = self.without_nearness(stiffness)
        np.fill_diagonal(normal, np.diag(normal) + damping * np.diag(self.normal))
        change = cho_solve(cho_factor(normal, overwrite_a=True, check_finite=False), wanted, check_finite=False)
        taken = min(1.0, float((longest / np.maximum(np.abs(change[:first]), 1e-12)).min()))
        change = taken * change
        nearness = -(taken * self.pull + self.ties @ change) / stiffness
        own = np.zeros((len(self.points.frames), LOCALS))
        own[:, : self.own] = change[first:].reshape(-1, self.own)
        return change[:first], own, nearness if self.walks else 0 * nearness

    def _longest(self) -> Floats:
        """How far each figure of the camera goes in one step, where the errors are known to be nearly linear."""
        camera = self.state.camera
        focal = [] if camera.angular else [LONGEST["focal"]]
        shape = [*np.full(len(camera.k), LONGEST["k"]), *np.full(2, LONGEST["centre"])]
        return np.array([*shape, *focal, LONGEST["readout"], *np.full(3, LONGEST["travel"])])

    def _cost(self, state: State) -> float:
        """What a state leaves, judged by this one's spreads."""
        seen = Sight(self.points, state, Moments.of(self.points, state).since_middle(state.camera.readout))
        reach = TUKEY_REACH * WIDER * self.belief.spread[:, None]
        beyond = np.minimum((np.abs(seen.errors) / reach) ** 2, 1.0)
        of_points = (WIDER * TUKEY_REACH) ** 2 / 6 * (1 - (1 - beyond) ** 3)
        usual, spread = state.camera.usual
        total = float(of_points[self.points.there].sum()) / CORRELATED**2
        total += float((((state.camera.figures - usual) / spread) ** 2).sum()) / 2
        total += float(((self._own_values(state) / self._own_spread()) ** 2).sum()) / 2
        total += float((((state.nearness - 1) / NEARNESS_SPREAD) ** 2).sum()) / 2
        return total + (self.lines.cost(state.camera) if self.lines is not None else 0.0)


def left_over(points: TurnedPoints, found: Solved) -> float:
    """What a state leaves in all, by the points' own noise, a logarithm of likelihood that forgives what is far off."""
    off = (found.lengths / (CORRELATED * points.noise[:, None])) ** 2
    return float(np.log1p(off)[points.there].sum()) / 2


def settled(points: TurnedPoints, state: State, rounds: int) -> State:
    """The state whose matches fit its camera, that one left as it is."""
    for _ in range(rounds):
        seen = sight(points, state)
        belief = Belief.by(seen, walks=False)
        trust = belief.weights / (CORRELATED * belief.spread[:, None]) ** 2
        own = seen.own_columns()[..., :STANDING]
        weighted = (np.conj(own) * trust[..., None]).swapaxes(1, 2)
        normal = (weighted @ own).real
        wanted = -(weighted @ seen.errors[..., None])[..., 0].real
        growth = np.where(np.arange(len(normal)) < points.pairs, PAIR_GROWTH, MATCH_GROWTH)
        normal += np.column_stack([np.full((len(normal), 3), TURN_SPREAD), growth])[:, :, None] ** -2.0 * np.eye(
            STANDING
        )
        wanted[:, 3] -= state.growth * growth**-2.0
        change = np.linalg.solve(normal, wanted[..., None])[..., 0]
        own_change = np.column_stack([change, np.zeros((len(change), 3))])
        state = state.moved(np.zeros(len(state.camera.figures)), own_change, np.zeros(points.tracks))
    return state
