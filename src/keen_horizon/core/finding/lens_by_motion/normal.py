"""The normal equations of all that is looked for, near a state.

Three kinds of figures: the camera's own, each match's own, and the nearness of every track. Nearness concerns one track
only, so it is eliminated (Schur's complement; Nocedal & Wright 2006, ch. 10) before the rest is solved for, densely.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from scipy.linalg import cho_factor, cho_solve
from scipy.sparse import csr_array

from keen_horizon.core.finding.lens_by_motion.belief import Belief, own_spread, own_values
from keen_horizon.core.finding.lens_by_motion.camera import TurningCamera
from keen_horizon.core.finding.lens_by_motion.residuals import LOCALS, STANDING, Sight
from keen_horizon.core.geometry.similarity import Complex, Floats

NEARNESS_SPREAD = 0.5


class StraightThings(Protocol):
    """What straight things say of a camera's lens."""

    def cost(self, camera: TurningCamera) -> float:
        """How badly it straightens them."""

    def normal(self, camera: TurningCamera) -> tuple[Floats, Floats]:
        """The normal matrix (S, S) and right-hand side (S,) of the lens's shape."""


@dataclass(frozen=True)
class Change:
    """Of the camera's figures `shared` (P,), of what is each match's `own` (E, LOCALS), and of `nearness` (T,)."""

    shared: Floats
    own: Floats
    nearness: Floats


@dataclass(frozen=True)
class Ties:
    """How the nearness of every track hangs on all other figures (T, N); its `stiffness` and `pull` (T,)."""

    to_others: csr_array
    stiffness: Floats
    pull: Floats


@dataclass(frozen=True)
class Equations:
    """The `normal` matrix (N, N) of the camera's `shared` figures and then of each match's, with its right-hand side
    `wanted`, as if nearness stood still; and the `ties` of nearness, where the camera walks.
    """

    normal: Floats
    wanted: Floats
    shared: int
    matches: int
    ties: Ties | None

    def information(self) -> Floats:
        """What is known of the camera's figures (P, P), everything else free."""
        first = self.shared
        normal, _ = self._without_nearness(0.0)
        crossing = normal[:first, first:]
        return np.asarray(normal[:first, :first] - crossing @ np.linalg.solve(normal[first:, first:], crossing.T))

    def change(self, damping: float, longest: Floats, tracks: int) -> Change:
        """What the equations propose, damped; no figure of the camera by more than its `longest` step (P,).

        Raises LinAlgError where they tell nothing.
        """
        first = self.shared
        normal, wanted = self._without_nearness(damping)
        np.fill_diagonal(normal, np.diag(normal) + damping * np.diag(self.normal))
        whole = cho_solve(cho_factor(normal, overwrite_a=True, check_finite=False), wanted, check_finite=False)
        taken = min(1.0, float((longest / np.maximum(np.abs(whole[:first]), 1e-12)).min()))
        whole = taken * whole
        nearness = np.zeros(tracks)
        if self.ties is not None:
            pulled = taken * self.ties.pull + self.ties.to_others @ whole
            nearness = -pulled / ((1 + damping) * self.ties.stiffness)
        figures = whole[first:].reshape(self.matches, -1)
        own = np.zeros((self.matches, LOCALS))
        own[:, : figures.shape[1]] = figures
        return Change(whole[:first], own, nearness)

    def _without_nearness(self, damping: float) -> tuple[Floats, Floats]:
        """The matrix and the right-hand side, less what every track's own nearness explains."""
        if self.ties is None:
            return self.normal.copy(), self.wanted
        eased = self.ties.to_others.multiply(1 / ((1 + damping) * self.ties.stiffness[:, None])).tocsr()
        return self.normal - (self.ties.to_others.T @ eased).toarray(), self.wanted + eased.T @ self.ties.pull


def equations(
    seen: Sight, belief: Belief, rates: tuple[Floats, Floats], *, walks: bool, lines: StraightThings | None
) -> Equations:
    """The equations at a state, its points believed so far; rows' moments change with the readout by `rates`."""
    points, camera, errors = seen.points, seen.state.camera, seen.errors
    own = seen.own_columns()[..., : LOCALS if walks else STANDING]
    shared = seen.shared_columns(rates)
    of_camera, wanted = _of_camera(shared, belief.trust, errors, camera)
    if lines is not None:
        of_lines, by_lines = lines.normal(camera)
        of_camera[: camera.shape, : camera.shape] += of_lines
        wanted[: camera.shape] += by_lines
    blocks, by_matches = of_matches(own, seen, belief)
    between = (np.conj(own) * belief.trust[..., None]).swapaxes(1, 2) @ shared
    first, width = len(wanted), own.shape[-1]
    size = first + width * len(blocks)
    normal = np.zeros((size, size))
    normal[:first, :first] = of_camera
    normal[first:, :first] = between.real.reshape(-1, first)
    normal[:first, first:] = normal[first:, :first].T
    for start, block in zip(range(first, size, width), blocks, strict=True):
        normal[start : start + width, start : start + width] = block
    ties = _ties(seen, belief, own, shared) if walks else None
    return Equations(normal, np.r_[wanted, by_matches.ravel()], first, len(points.frames), ties)


def _of_camera(shared: Complex, trust: Floats, errors: Complex, camera: TurningCamera) -> tuple[Floats, Floats]:
    """What concerns the camera's figures alone, with what is usual of them."""
    weighted = np.conj(shared) * trust[..., None]
    usual, spread = camera.usual
    normal = np.einsum("emp,emq->pq", weighted, shared, optimize=True).real + np.diag(spread**-2.0)
    wanted = (usual - camera.figures) / spread**2 - np.einsum("emp,em->p", weighted, errors, optimize=True).real
    return normal, wanted


def of_matches(own: Complex, seen: Sight, belief: Belief) -> tuple[Floats, Floats]:
    """What concerns each match alone: blocks (E, L, L) and right-hand sides (E, L)."""
    width = own.shape[-1]
    weighted = (np.conj(own) * belief.trust[..., None]).swapaxes(1, 2)
    stiff = own_spread(seen.points, belief)[:, :width] ** -2.0
    blocks = (weighted @ own).real + stiff[:, :, None] * np.eye(width)
    wanted = -(weighted @ seen.errors[..., None])[..., 0].real
    return blocks, wanted - own_values(seen.state)[:, :width] * stiff


def _ties(seen: Sight, belief: Belief, own: Complex, shared: Complex) -> Ties:
    """How every track's nearness hangs on the camera's figures and on those of the matches that it is seen in."""
    points, tracks = seen.points, seen.points.tracks
    column = seen.near_column()
    near = np.conj(column) * belief.trust
    track = points.track[points.there]

    def of_tracks(values: Complex) -> Floats:
        return np.asarray(np.bincount(track, values.real[points.there], tracks), np.float64)

    drawn = NEARNESS_SPREAD**-2.0
    first, width = shared.shape[-1], own.shape[-1]
    match = np.broadcast_to(np.arange(len(points.frames))[:, None], points.there.shape)[points.there]
    to_camera = np.stack([of_tracks(near * shared[..., i]) for i in range(first)], -1)
    to_matches = (near[..., None] * own).real[points.there]
    rows = np.r_[np.repeat(np.arange(tracks), first), np.repeat(track, width)]
    places = np.r_[np.tile(np.arange(first), tracks), (first + width * match[:, None] + np.arange(width)).ravel()]
    values = np.r_[to_camera.ravel(), to_matches.ravel()]
    to_others = csr_array((values, (rows, places)), shape=(tracks, first + width * len(points.frames)))
    stiffness = of_tracks(near * column) + drawn
    return Ties(to_others, stiffness, of_tracks(near * seen.errors) + drawn * (seen.state.nearness - 1))
