"""How far followed points lie from where a turning camera would put them, and how that changes with what is looked for.

A point's ray, brought from its row's moment to the middle row's, is turned, grown and moved by the travel over its own
depth to where the other frame should show it. The difference counts as a place on the picture, complex, half-diagonals.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation

from keen_horizon.core.finding.lens_by_motion.camera import (
    Seen,
    TurningCamera,
    beside,
    crossed,
    swung,
    turned,
)
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints
from keen_horizon.core.geometry.similarity import Complex, Floats

LOCALS, STANDING = 7, 4  # figures of a match: turn, growth, travel beside the usual one; without that
NUDGE = 1e-4


@dataclass(frozen=True, kw_only=True)
class State:
    """A camera; of E matches how it turned (E, 3, 3), target_from_source, by how much the picture grew (E,), and how
    its travel differed from the usual one (E, 3); of every track the `nearness` (T,), the usual depth over its own.
    """

    camera: TurningCamera
    turns: Floats
    growth: Floats
    strayed: Floats
    nearness: Floats

    @staticmethod
    def still(points: TurnedPoints, camera: TurningCamera) -> State:
        """A camera that did not move, everything equally far."""
        count = len(points.frames)
        turns = np.broadcast_to(np.eye(3), (count, 3, 3))
        return State(
            camera=camera,
            turns=turns,
            growth=np.zeros(count),
            strayed=np.zeros((count, 3)),
            nearness=np.ones(points.tracks),
        )

    def moved(self, shared: Floats, own: Floats, nearness: Floats) -> State:
        """The state whose camera differs by `shared`, matches by `own` (E, LOCALS), tracks by `nearness` (T,)."""
        turns = Rotation.from_rotvec(own[:, :3]).as_matrix() @ self.turns
        return State(
            camera=self.camera.moved(shared),
            turns=turns,
            growth=self.growth + own[:, 3],
            strayed=self.strayed + own[:, 4:],
            nearness=self.nearness + nearness,
        )


@dataclass(frozen=True)
class Moments:
    """How the camera turned from a frame's middle row to the moment each point was read, at both ends of its match,
    (E, M, 3) each, by readouts; from the frames' turns, smooth between them.
    """

    spline: CubicSpline
    points: TurnedPoints

    @staticmethod
    def of(points: TurnedPoints, state: State) -> Moments:
        """The moments of a state."""
        count = int(points.frames.max()) + 2
        known, frames = points.frames[: points.pairs, 0], np.arange(count - 1)
        found = Rotation.from_matrix(state.turns[: points.pairs]).as_rotvec()
        steps = np.stack([np.interp(frames, known, axis) for axis in found.T], -1)
        passed = np.concatenate([np.zeros((1, 3)), np.cumsum(steps, 0)])
        return Moments(CubicSpline(np.arange(count), passed), points)

    def since_middle(self, readout: float) -> tuple[Floats, Floats]:
        """What lies between the middle row's moment and each point's own."""
        found = []
        for frames, share in zip(self.points.frames.T, (self.points.early, self.points.late), strict=True):
            here = self.spline(frames)[:, None]
            found.append(self.spline(frames[:, None] + readout * share) - here)
        return found[0], found[1]

    def rates(self, readout: float) -> tuple[Floats, Floats]:
        """How that changes with the readout."""
        found = []
        for frames, share in zip(self.points.frames.T, (self.points.early, self.points.late), strict=True):
            found.append(self.spline(frames[:, None] + readout * share, 1) * share[..., None])
        return found[0], found[1]


@dataclass(frozen=True)
class Sight:
    """What a state makes of the points, and the `errors` (E, M) that it leaves."""

    points: TurnedPoints
    state: State
    since: tuple[Floats, Floats]

    @cached_property
    def source(self) -> Floats:
        """The source's rays at the middle row's moment (E, M, 3)."""
        return swung(-self.since[0], self.state.camera.seen(self.points.source).rays)

    @cached_property
    def there(self) -> Seen:
        """Where the target was seen."""
        return self.state.camera.seen(self.points.target)

    @cached_property
    def target(self) -> Floats:
        """The target's rays at the middle row's moment (E, M, 3)."""
        return swung(-self.since[1], self.there.rays)

    @cached_property
    def expected(self) -> Floats:
        """The source's rays turned into the target's frame (E, M, 3)."""
        return turned(self.state.turns, self.source)

    @cached_property
    def outward(self) -> Floats:
        """How these move, to first order, when a flat picture grows."""
        return beside(self.expected * (1.0, 1.0, 0.0), self.expected)

    @cached_property
    def share(self) -> Floats:
        """Of the travel of one frame over the usual depth, how much each point is moved by (E, M, 1)."""
        nearness = self.state.nearness[self.points.track]
        return np.asarray((self.points.gaps[:, None] * nearness)[..., None])

    @cached_property
    def passing(self) -> Floats:
        """How each point moves by the camera's travel, at the usual depth, over its match (E, M, 3)."""
        travel = (self.state.camera.travel + self.state.strayed)[:, None]
        return np.asarray(self.points.gaps[:, None, None] * beside(travel, self.expected))

    @cached_property
    def errors(self) -> Complex:
        """What is left, half-diagonals (E, M)."""
        nearness = self.state.nearness[self.points.track][..., None]
        grown = self.state.growth[:, None, None] * self.outward
        return self.there.on_picture(self.target - self.expected - grown - nearness * self.passing)

    def own_columns(self) -> Complex:
        """How the errors change with what is each match's own (E, M, LOCALS)."""
        axes = np.eye(3)
        turning = [-crossed(axis, self.expected) for axis in axes]
        straying = [-self.share * beside(axis, self.expected) for axis in axes]
        columns = [*turning, -self.outward, *straying]
        return np.stack([self.there.on_picture(column) for column in columns], -1)

    def shared_columns(self, rates: tuple[Floats, Floats]) -> Complex:
        """How the errors change with the camera's figures (E, M, P); with the readout the rows' moments by `rates`."""
        camera = self.state.camera
        columns = []
        optical = camera.shape + (0 if camera.angular else 1)
        for nudge in NUDGE * np.eye(len(camera.figures))[:optical]:
            beyond = Sight(self.points, replace(self.state, camera=camera.moved(nudge)), self.since)
            columns.append((beyond.errors - self.errors) / NUDGE)
        late = turned(self.state.turns, crossed(rates[0], self.source)) - crossed(rates[1], self.target)
        columns.append(self.there.on_picture(late))
        for axis in np.eye(3):
            columns.append(self.there.on_picture(-self.share * beside(axis, self.expected)))
        return np.stack(columns, -1)

    def near_column(self) -> Complex:
        """How the errors change with the nearness of their track (E, M)."""
        return self.there.on_picture(-self.passing)


def sight(points: TurnedPoints, state: State) -> Sight:
    """What a state makes of the points."""
    return Sight(points, state, Moments.of(points, state).since_middle(state.camera.readout))
