"""Layers of motion in a window: tracks that move as one, judged against the window's middle.

Over half a second small parallax adds up to what one pair cannot show. A layer's motion is a similarity a frame, with
perspective where it has tracks enough. Found by random samples of two tracks (Fischler & Bolles 1981), judged by how
many cells of the picture agree, refitted with Geman and McClure's weights (1985).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats, as_points, fit_similarities
from keen_horizon.core.geometry.tilt import fit_tilts, tilted
from keen_horizon.core.motion.belief.windows import Window
from keen_horizon.core.motion.tracking import cell_count, grid_cells

FURTHEST = 3.0  # an error counts as so many times its tolerance at most
TOLERANCE_PX, TOLERANCE_GROWTH = 1.0, 0.04  # px at 640 wide; px a frame from the middle
MEMBER, CHOOSES, PROMISING = 0.75, 0.9, 1.5
EXPLAINS_ALL = 0.8  # of the tracks
TRIALS, NEAR_TRIALS, NEAR_PX, REFITTED = 160, 0.66, 160.0, 5
MOST_LAYERS = 6
LEAST_CELLS, LEAST_TRACKS = 0.04, 6
TILT_FROM = 20  # tracks
TILT_SPREAD = 5e-5  # 1/px at 640 wide, over half a second
JOINED = 0.6
ROUNDS = 3


@dataclass(frozen=True)
class Moves:
    """How what moves as one gets from the middle to each frame: z, t, tilt (F,); see geometry.tilt."""

    z: Complex
    t: Complex
    tilt: Complex

    def places(self, centre: Complex, size: Size) -> Complex:
        """Where points (T,) of the middle frame are in every frame, (T, F)."""
        seen = tilted(self.tilt, centre - size.centre, size) + size.centre if self.tilt.any() else centre[None]
        return np.asarray((self.z[:, None] * seen + self.t[:, None]).T)


@dataclass(frozen=True)
class Layers:
    """Layers of a window: the layer (T,) that each of its tracks belongs to, -1 none, and the moves of each."""

    label: NDArray[np.intp]
    moves: tuple[Moves, ...]

    def members(self, layer: int) -> NDArray[np.bool_]:
        """Which tracks (T,) belong to a layer."""
        return np.asarray(self.label == layer)


def find_layers(window: Window, size: Size, before: Sequence[NDArray[np.int32]], seed: int) -> Layers:
    """The layers of a window of pictures of `size` (640 wide); `before` are the last window's, by identity."""
    if len(window) < LEAST_TRACKS:
        return Layers(np.full(len(window), -1), ())
    cells = grid_cells(as_points(window.centre), (size.height, size.width))
    least = LEAST_CELLS * cell_count((size.height, size.width))
    free = np.ones(len(window), np.bool_)
    found: list[Moves] = []
    random = np.random.default_rng(seed)
    for moves in _guessed(window, size, before):
        member = free & (_costs(window, moves, size) < MEMBER)
        if member.sum() >= LEAST_TRACKS and len(np.unique(cells[member])) >= least:
            found.append(moves)
            free &= ~member
    while len(found) < MOST_LAYERS and free.sum() >= LEAST_TRACKS:
        sought = _sought(window, size, free, cells, random)
        if sought is None:
            break
        member = free & (_costs(window, sought, size) < MEMBER)
        if member.sum() < LEAST_TRACKS or len(np.unique(cells[member])) < least:
            break
        found.append(sought)
        free &= ~member
    return _chosen(window, size, found, cells, least)


def _guessed(window: Window, size: Size, before: Sequence[NDArray[np.int32]]) -> list[Moves]:
    """Motions worth trying first: one of everything where that explains nearly all, else the last window's layers'."""
    everything = _refitted(window, np.ones(len(window)), size)
    if (_costs(window, everything, size) < MEMBER).mean() > EXPLAINS_ALL:
        return [everything]
    guesses = []
    for identity in before:
        known = np.isin(window.identity, identity)
        if known.sum() >= LEAST_TRACKS:
            guesses.append(_refitted(window, known.astype(np.float64), size))
    return guesses


def _sought(
    window: Window, size: Size, free: NDArray[np.bool_], cells: NDArray[np.intp], random: np.random.Generator
) -> Moves | None:
    """The motion that covers most cells of what is still free."""
    tracks = np.flatnonzero(free)
    z, t = _trials(window.places[tracks], window.middle, random)
    if not len(z):
        return None
    moved = z[:, None] * window.centre[tracks][None, :, None] + t[:, None]
    costs = _judged(moved, window.places[tracks][None], window)
    covered = _covered(costs < PROMISING, cells[tracks])
    best: tuple[int, Moves] | None = None
    for trial in np.argsort(-covered, kind="stable")[:REFITTED]:
        weights = np.zeros(len(window))
        weights[tracks] = costs[trial] < PROMISING
        moves = _refitted(window, weights, size, free)
        count = len(np.unique(cells[free & (_costs(window, moves, size) < MEMBER)]))
        if best is None or count > best[0]:
            best = count, moves
    return best[1] if best else None


def _trials(places: Complex, middle: int, random: np.random.Generator) -> tuple[Complex, Complex]:
    """Similarities (H, F) of two tracks each, most of them near each other; only of tracks seen all the time."""
    whole = np.flatnonzero(np.isfinite(places.real).all(1))
    if len(whole) < 2:
        return np.zeros((0, places.shape[1]), np.complex128), np.zeros((0, places.shape[1]), np.complex128)
    centre = places[whole, middle]
    first = random.integers(0, len(whole), TRIALS)
    second = random.integers(0, len(whole), TRIALS)
    near = np.abs(centre[:, None] - centre[None]) < NEAR_PX
    for trial in range(round(NEAR_TRIALS * TRIALS)):
        around = np.flatnonzero(near[first[trial]])
        second[trial] = around[random.integers(0, len(around))]
    apart = np.abs(centre[first] - centre[second]) > 12
    first, second = whole[first[apart]], whole[second[apart]]
    a, b = places[first], places[second]
    z = (b - a) / (b[:, middle] - a[:, middle])[:, None]
    plausible = (np.abs(np.abs(z) - 1) < 0.5).all(1)
    z = z[plausible]
    return z, a[plausible] - z * a[plausible, middle][:, None]


def _covered(agreeing: NDArray[np.bool_], cells: NDArray[np.intp]) -> NDArray[np.intp]:
    order = np.argsort(cells, kind="stable")
    starts = np.r_[0, np.flatnonzero(np.diff(cells[order])) + 1]
    return np.asarray(np.logical_or.reduceat(agreeing[:, order], starts, axis=1).sum(1))


def _judged(moved: Complex, places: Complex, window: Window) -> Floats:
    """Mean errors (..., T) by their tolerance, cut off, over the frames in which each track is seen."""
    tolerance = TOLERANCE_PX + TOLERANCE_GROWTH * np.abs(window.frames - window.frames[window.middle])
    errors = np.minimum(np.abs(moved - places) / tolerance, FURTHEST)
    other = np.arange(len(window.frames)) != window.middle
    return np.asarray(np.nanmean(errors[..., other], axis=-1))


def _costs(window: Window, moves: Moves, size: Size) -> Floats:
    return _judged(moves.places(window.centre, size), window.places, window)


def _refitted(window: Window, weights: Floats, size: Size, allowed: NDArray[np.bool_] | None = None) -> Moves:
    """The moves that tracks of those weights (T,) agree on."""
    seen = np.isfinite(window.places.real).T
    places = np.where(seen, window.places.T, 0)
    tolerance = (TOLERANCE_PX + TOLERANCE_GROWTH * np.abs(window.frames - window.frames[window.middle]))[:, None]
    centre = np.broadcast_to(window.centre, places.shape)
    offset = centre - size.centre
    count = len(window.frames)
    share = seen * weights
    tilt = np.zeros(count, np.complex128)
    z, t = fit_similarities(centre, places, share)
    for turn in range(ROUNDS):
        judged = Moves(z, t, tilt).places(window.centre, size).T
        errors = np.abs(judged - places) / tolerance
        reach = 3.0 if turn == 0 else 1.0
        agree = 1 / (1 + (errors / reach) ** 2) ** 2
        share = seen * agree * (1.0 if allowed is None else allowed) * (weights > 0 if turn == 0 else 1.0)
        if (weights > 0).sum() >= TILT_FROM:
            still = (places - t[:, None]) / z[:, None] - size.centre
            none = np.zeros(count, np.complex128)
            dz, dt, tilt = fit_tilts(offset, still, share / tolerance**2, size, none, TILT_SPREAD)
            t = t + z * (dt - dz * size.centre)
            z = z * (1 + dz)
        else:
            z, t = fit_similarities(centre, places, share)
    return Moves(z, t, tilt)


def _chosen(window: Window, size: Size, found: list[Moves], cells: NDArray[np.intp], least: float) -> Layers:
    """Every track chooses again; a layer that a larger one explains joins it."""
    if not found:
        return Layers(np.full(len(window), -1), ())
    costs = np.stack([_costs(window, moves, size) for moves in found])
    label = np.where(costs.min(0) < CHOOSES, costs.argmin(0), -1)
    sizes = np.bincount(label[label >= 0], minlength=len(found))
    kept: list[int] = []
    for layer in np.argsort(-sizes, kind="stable"):
        member = label == layer
        larger = next((k for k in kept if member.any() and (costs[k][member] < CHOOSES).mean() > JOINED), None)
        if larger is not None:
            label[member] = np.where(costs[larger][member] < CHOOSES, larger, -1)
        elif member.sum() >= LEAST_TRACKS and len(np.unique(cells[member])) >= least:
            kept.append(int(layer))
        else:
            label[member] = -1
    number = np.full(len(found) + 1, -1)
    number[kept] = np.arange(len(kept))
    return Layers(np.where(label >= 0, number[label], -1), tuple(found[layer] for layer in kept))
