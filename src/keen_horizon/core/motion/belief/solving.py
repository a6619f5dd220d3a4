"""A measurement's motion, worked out from the tracks that it keeps: which are believed, and what those say."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Floats, Similarities
from keen_horizon.core.motion.belief.chain import Chain, best_chain
from keen_horizon.core.motion.belief.fits import Fits, fitted, tables_of
from keen_horizon.core.motion.belief.labels import BACKGROUND, IGNORED, Labelled, named_layers, vote
from keen_horizon.core.motion.belief.layers import Layers, find_layers
from keen_horizon.core.motion.belief.windows import Window, shots, windows
from keen_horizon.core.motion.graph import Graph, bridged
from keen_horizon.core.motion.matched import analysed_size, analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import MINIMUM_INLIERS
from keen_horizon.core.motion.tracking import cell_count

ENOUGH_CELLS = 0.25  # of the grid
SURE_MARGIN, SURE_BY = 0.5, 2.0
BY_CORNERS = np.array([0.4, 0.7, 1.0, 1.0, 1.0])


@dataclass(frozen=True)
class Parted:
    """A shot's windows and their layers, the chain believed, and the layers' names through the shot."""

    windows: list[Window]
    layers: list[Layers]
    chain: Chain
    names: list[NDArray[np.intp]]


def believed(measurement: Measurement) -> Measurement:
    """The same with its motion worked out from what its background's tracks say."""
    unit, size = analysed_unit(measurement.size), analysed_size(measurement.size)
    parted = part_layers(measurement, size, unit)
    return solved(measurement, voted(measurement, parted), margins(parted, len(measurement)))


def voted(measurement: Measurement, parted: list[Parted]) -> Labelled:
    """The label of every track of a measurement."""
    evidence = measurement.evidence
    tracks = int(max(evidence.identity.max(initial=-1), evidence.matches.identity.max(initial=-1))) + 1
    return vote([(shot.windows, shot.layers, shot.names) for shot in parted], tracks)


def part_layers(measurement: Measurement, size: Size, unit: float) -> list[Parted]:
    """Every shot's layers of motion, and which is the background."""
    parted, name = [], 1
    for shot in shots(measurement):
        seen = list(windows(measurement, shot, unit))
        layers: list[Layers] = []
        for place, window in enumerate(seen):
            before = (
                [seen[place - 1].identity[layers[-1].members(k)] for k in range(len(layers[-1].moves))] if place else []
            )
            layers.append(find_layers(window, size, before, seed=int(window.frames[0])))
        names, name = named_layers(seen, layers, name)
        chain = best_chain(seen, layers, names, size)
        for named, layer in zip(names, chain.layer, strict=True):
            named[layer : layer + 1] = BACKGROUND if layer >= 0 else named[layer : layer + 1]
        parted.append(Parted(seen, layers, chain, names))
    return parted


def margins(parted: list[Parted], count: int) -> Floats:
    """How surely the chain is the right one at every pair (N - 1,), 0 ... 1."""
    found = np.zeros(max(0, count - 1))
    for shot in parted:
        if not shot.windows:
            continue
        middles = [float(window.frames[window.middle]) for window in shot.windows]
        pairs = np.arange(int(shot.windows[0].frames[0]), int(shot.windows[-1].frames[-1]))
        nearest = np.abs(pairs[:, None] + 0.5 - np.array(middles)[None]).argmin(1)
        found[pairs] = np.clip(shot.chain.margin[nearest], 0, 1)
    return found


def solved(
    measurement: Measurement, labels: Labelled, margin: Floats, ignored: NDArray[np.bool_] | None = None
) -> Measurement:
    """Poses from the motions that the believed points of every pair and match tell.

    `ignored` (M + K,) marks rows of the evidence's points, then of its matches', that say nothing.
    """
    unit, size = analysed_unit(measurement.size), analysed_size(measurement.size)
    evidence, count = measurement.evidence, len(measurement)
    if count < 2:
        return measurement
    matches = evidence.matches
    starts = np.r_[evidence.starts, evidence.starts[-1] + matches.starts[1:]]
    identity = np.r_[evidence.identity, matches.identity]
    label = labels.of(identity)
    if ignored is not None:
        label = np.where(ignored, IGNORED, label)
    tables = tables_of(
        starts,
        np.concatenate([evidence.points, matches.points]) / unit,
        np.concatenate([evidence.moved, matches.moved]) / unit,
        np.r_[evidence.weak, matches.weak],
        label,
    )
    fits = fitted(tables, size)
    pairs = count - 1
    enough = fits.count >= MINIMUM_INLIERS
    blind = (measurement.blind | ~enough[:pairs]) & ~measurement.cut
    graph = _graph(fits, measurement.cut | blind, enough, matches.frames)
    posed = graph.posed(count, blind, size.half_diagonal / 2)
    motion = bridged(graph.motion[:pairs], blind)
    agree = fits.agree[: len(evidence.identity)]
    return replace(
        measurement,
        pairs=motion.scaled(unit), poses=posed.poses.scaled(unit), tilted_poses=posed.tilted_poses.scaled(unit),
        tilts=posed.tilts / unit, inliers=fits.count[:pairs].astype(np.int32), residual=fits.residual[:pairs] * unit,
        blind=blind, confidence=confidence(fits, margin, blind | measurement.cut, size),
        evidence=replace(evidence, believed=agree, layer=label[: len(evidence.identity)]),
    )  # fmt: skip


def _graph(fits: Fits, unknown: NDArray[np.bool_], enough: NDArray[np.bool_], matched: NDArray[np.int64]) -> Graph:
    """The motions of pairs, as if nothing moved where that is `unknown`, and of the matches that show enough."""
    pairs = len(unknown)
    kept = np.r_[np.arange(pairs), pairs + np.flatnonzero(enough[pairs:])]
    still = np.r_[unknown, np.zeros(len(kept) - pairs, np.bool_)]

    def moves(motion: Similarities) -> Similarities:
        return Similarities(np.where(still, 1, motion.z[kept]), np.where(still, 0, motion.t[kept]))

    source = np.r_[np.arange(pairs), matched[:, 0]][kept]
    target = np.r_[np.arange(1, pairs + 1), matched[:, 1]][kept]
    tilt = np.where(still, 0, fits.tilt[kept])
    return Graph(source, target, moves(fits.motion), moves(fits.tilted), tilt, fits.centre[kept])


def confidence(fits: Fits, margin: Floats, unknown: NDArray[np.bool_], size: Size) -> Floats:
    """How sure the motion of every pair (P,) is, 0 ... 1: how much of the picture agrees, how far its corners are
    reached, and by how much the chain of layers is better than the next.
    """
    pairs = len(margin)
    cells = fits.cells[:pairs] / (ENOUGH_CELLS * cell_count((size.height, size.width)))
    chosen = SURE_MARGIN + SURE_BY * margin
    told = np.clip(np.minimum(cells, 1) * np.minimum(chosen, 1) * BY_CORNERS[fits.corners[:pairs]], 0, 1)
    return np.asarray(np.where(unknown, 0.0, told))
