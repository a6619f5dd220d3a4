"""A state made better, all of it at once, by damped Gauss-Newton steps (Nocedal & Wright 2006, ch. 10)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keen_horizon.core.finding.lens_by_motion.belief import CORRELATED, Belief
from keen_horizon.core.finding.lens_by_motion.camera import TurningCamera
from keen_horizon.core.finding.lens_by_motion.normal import (
    NEARNESS_SPREAD,
    Change,
    StraightThings,
    equations,
    of_matches,
)
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints
from keen_horizon.core.finding.lens_by_motion.residuals import LOCALS, STANDING, Moments, Sight, State, sight
from keen_horizon.core.geometry.similarity import Floats

DAMPINGS = 5  # tried in one step, each ten times the one before
FIRST_DAMPING = 1e-3
LONGEST = {"k": 0.3, "centre": 0.03, "focal": 0.4, "readout": 0.3, "travel": 0.003}  # of one step
SETTLED = 2e-4  # the largest change of a lens's figures


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

    @property
    def focal_spread(self) -> float:
        """The standard deviation of the focal length, of itself."""
        camera = self.state.camera
        figure = 0 if camera.angular else camera.shape
        spread = float(np.linalg.inv(self.information)[figure, figure] ** 0.5)
        return spread / (2 * float(camera.k[0])) if camera.angular else spread


def solved(
    points: TurnedPoints, state: State, *, walks: bool, steps: int, lines: StraightThings | None = None
) -> Solved:
    """The best state near one, after some steps at most; a camera that `walks` passes near things faster than far ones.

    Straight `lines` add what they say of the lens. Raises LinAlgError where the points tell nothing.
    """
    damping = FIRST_DAMPING
    for _ in range(steps):
        near = _Near(points, state, walks, lines)
        better = near.better(damping)
        if better is None:
            break
        state, damping, change = better
        if change < SETTLED:
            break
    return _Near(points, state, walks, lines).ended()


class _Near:
    """The neighbourhood of a state: what is believed there, the equations, and what any state there costs."""

    def __init__(self, points: TurnedPoints, state: State, walks: bool, lines: StraightThings | None) -> None:
        self.points, self.state, self.lines = points, state, lines
        moments, readout = Moments.of(points, state), state.camera.readout
        self.seen = Sight(points, state, moments.since_middle(readout))
        self.belief = Belief.by(self.seen, walks)
        self.equations = equations(self.seen, self.belief, moments.rates(readout), walks=walks, lines=lines)

    def better(self, damping: float) -> tuple[State, float, float] | None:
        """A state that costs less, the damping to go on with, and how far the lens changed; None if there is none."""
        cost, longest = self._cost(self.seen), _longest(self.state.camera)
        for _ in range(DAMPINGS):
            change = self.equations.change(damping, longest, self.points.tracks)
            tried = self.state.moved(change.shared, change.own, change.nearness)
            if self._cost(sight(self.points, tried)) < cost:
                return tried, damping / 10, _of_lens(change, self.state.camera)
            damping = max(10 * damping, FIRST_DAMPING)
        return None

    def ended(self) -> Solved:
        """What is told of the state."""
        return Solved(
            state=self.state,
            lengths=np.abs(self.seen.errors),
            information=self.equations.information(),
            unexplained=float(np.median(self.belief.spread / self.points.noise)),
            agreeing=float((self.belief.weights > 0).sum() / max(1, self.points.there.sum())),
        )

    def _cost(self, seen: Sight) -> float:
        """What a state leaves of the points and the lines, and how unusual it is."""
        camera = seen.state.camera
        usual, spread = camera.usual
        unusual = (((camera.figures - usual) / spread) ** 2).sum()
        near = (((seen.state.nearness - 1) / NEARNESS_SPREAD) ** 2).sum()
        of_lines = self.lines.cost(camera) if self.lines is not None else 0.0
        return self.belief.cost(seen) + float(unusual + near) / 2 + of_lines


def _longest(camera: TurningCamera) -> Floats:
    """How far each figure of the camera goes in one step, where the errors are known to be nearly linear."""
    focal = [] if camera.angular else [LONGEST["focal"]]
    shape = [*np.full(len(camera.k), LONGEST["k"]), *np.full(2, LONGEST["centre"])]
    return np.array([*shape, *focal, LONGEST["readout"], *np.full(3, LONGEST["travel"])])


def _of_lens(change: Change, camera: TurningCamera) -> float:
    """The largest change of the lens's figures, its focal length among them."""
    return float(np.abs(change.shared[: camera.shape + 1]).max())


def left_over(points: TurnedPoints, found: Solved) -> float:
    """What a state leaves in all, by the points' own noise, a logarithm of likelihood that forgives what is far off."""
    off = (found.lengths / (CORRELATED * points.noise[:, None])) ** 2
    return float(np.log1p(off)[points.there].sum()) / 2


def settled(points: TurnedPoints, state: State, rounds: int) -> State:
    """The state whose matches fit its camera, which stands as it is."""
    for _ in range(rounds):
        seen = sight(points, state)
        normal, wanted = of_matches(seen.own_columns()[..., :STANDING], seen, Belief.by(seen, walks=False))
        change = np.zeros((len(points.frames), LOCALS))
        change[:, :STANDING] = np.linalg.solve(normal, wanted[..., None])[..., 0]
        state = state.moved(np.zeros(len(state.camera.figures)), change, np.zeros(points.tracks))
    return state
