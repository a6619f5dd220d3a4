"""The motions of all matches at once, fitted to the points that are believed.

Corners and weak points have scatters of their own; weak ones, which are biased, count little where corners hold the
picture by themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.robust import TUKEY_REACH, tukey
from keen_horizon.core.geometry.similarity import Complex, Floats, Similarities, as_complex, as_points, fit_similarities
from keen_horizon.core.geometry.tilt import fit_tilts, tilted
from keen_horizon.core.motion.matched import row_medians
from keen_horizon.core.motion.robust import MINIMUM_INLIERS, THRESHOLD_PX, fit_tracks
from keen_horizon.core.motion.tracking import Tracks, grid_cells, grid_of

ROUNDS, TILT_ROUNDS = 7, 3
FAR_ROUNDS = 3  # in which points may be off by more than a pixel: a few that went astray must not keep all others out
LEAST_SPREAD, LEAST_WEAK_SPREAD, LEAST_TILTED_SPREAD = 0.05, 0.1, 0.08
TILT_REACH_PX = 3.0
MOST_SIZED = 4.0  # times larger or smaller: no match of two frames is
TILT_SPREAD = 1e-5  # 1/px at 640 wide: a pair of frames moves a corner by about a pixel that way
BIASED = 0.01  # what weak points count where corners hold the picture
HELD_BY, HELD_CORNERS, HELD_CELLS = 40, 3, 36
CORNER = 0.25  # of the width and of the height: what a corner of the picture is
AT_A_TIME = 128  # matches: their tables stay in a processor's cache


@dataclass(frozen=True)
class Table:
    """Points of E matches, padded to (E, M), px at 640 wide: where in both frames, `there`, `weak`, and labels."""

    source: Complex
    target: Complex
    there: NDArray[np.bool_]
    weak: NDArray[np.bool_]
    label: NDArray[np.int32]


@dataclass(frozen=True)
class Fits:
    """Of E matches: motions target_from_source, alone and with the perspective `tilt`; which of all their points, match
    by match, agree (K,), how many do (E,), the RMS error of these (E,), their centre (E,), how many cells (E,) and
    corners of the picture (E,) they reach.
    """

    motion: Similarities
    tilted: Similarities
    tilt: Complex
    agree: NDArray[np.bool_]
    count: NDArray[np.intp]
    residual: Floats
    centre: Complex
    cells: NDArray[np.intp]
    corners: NDArray[np.intp]


def fitted(tables: Iterable[Table], size: Size) -> Fits:
    """The motions of matches, some of which each table has."""
    parts = [_fitted(table, size) for table in tables]

    def joined(name: str) -> np.ndarray:
        return np.concatenate([getattr(part, name) for part in parts])

    def moved(name: str) -> Similarities:
        return Similarities(*(np.concatenate([getattr(getattr(part, name), axis) for part in parts]) for axis in "zt"))

    return Fits(
        moved("motion"), moved("tilted"), joined("tilt"), joined("agree"), joined("count"), joined("residual"),
        joined("centre"), joined("cells"), joined("corners"),
    )  # fmt: skip


def _fitted(table: Table, size: Size) -> Fits:
    believed = _believed_first(table, size)
    strong, weak = ~table.weak & table.there, table.weak & table.there
    cells, corners = reached(table.source, believed & strong, size)
    held = ((believed & strong).sum(1) >= HELD_BY) & ((corners >= HELD_CORNERS) | (cells >= HELD_CELLS))
    share = np.where(weak, np.where(held, BIASED, 1.0)[:, None], 1.0)
    weights = np.where(believed, share, 0.0)
    z, t = fit_similarities(table.source, table.target, weights)
    spread = np.full(table.source.shape, THRESHOLD_PX / 3)
    errors = np.abs(z[:, None] * table.source + t[:, None] - table.target)
    for turn in range(ROUNDS):
        near = believed & (errors < (THRESHOLD_PX if turn >= FAR_ROUNDS else np.inf))
        spread = np.where(
            table.weak,
            np.maximum(LEAST_WEAK_SPREAD, 1.2 * row_medians(errors, near & weak))[:, None],
            np.maximum(LEAST_SPREAD, 1.2 * row_medians(errors, near & strong))[:, None],
        )
        weights = np.where(believed, tukey(errors, spread) / spread**2, 0.0) * share
        z, t = fit_similarities(table.source, table.target, weights)
        errors = np.abs(z[:, None] * table.source + t[:, None] - table.target)
        if turn == ROUNDS // 2:
            believed = believed | _joining(table, believed, errors)
    plausible = (np.abs(z) > 1 / MOST_SIZED) & (np.abs(z) < MOST_SIZED)
    z, t = np.where(plausible, z, 1), np.where(plausible, t, 0)
    agree = believed & plausible[:, None] & (errors < np.minimum(THRESHOLD_PX, TUKEY_REACH * spread))
    total = np.maximum(weights.sum(1), 1e-9)
    residual = np.sqrt((weights * errors**2).sum(1) / total)
    tilted_motion, tilt = _tilted(table, believed, Similarities(z, t), share, size)
    count = agree.sum(1)
    centre = np.where(count, (agree * table.source).sum(1) / np.maximum(count, 1), size.centre)
    cells, corners = reached(table.source, agree, size)
    return Fits(
        Similarities(z, t), tilted_motion, tilt, agree[table.there], count, residual, centre, cells, corners
    )  # fmt: skip


def _believed_first(table: Table, size: Size) -> NDArray[np.bool_]:
    """The background's points; where a match has too few of them, those that most of the picture agrees on."""
    believed = table.there & (table.label == 0)
    for row in np.flatnonzero(believed.sum(1) < MINIMUM_INLIERS):
        known = np.flatnonzero(table.there[row] & (table.label[row] <= 0))
        tracks = Tracks(as_points(table.source[row, known]), as_points(table.target[row, known]))  # type: ignore[arg-type]
        fit = fit_tracks(tracks, (size.height, size.width), int(row))
        if fit is not None:
            believed[row, known] |= fit.inliers
    return np.asarray(believed)


def _joining(table: Table, believed: NDArray[np.bool_], errors: Floats) -> NDArray[np.bool_]:
    """Points without a label that agree, and lie nearer to believed ones than to those of other layers."""
    joining = table.there & (table.label < 0) & ~believed & (errors < THRESHOLD_PX)
    for row in np.flatnonzero(joining.any(1) & (table.label > 0).any(1)):
        who = np.flatnonzero(joining[row])
        known = np.flatnonzero(table.there[row] & (table.label[row] >= 0))
        off = np.abs(table.source[row, who][:, None] - table.source[row, known][None])
        joining[row, who] = table.label[row, known][off.argmin(1)] == 0
    return np.asarray(joining)


def reached(points: Complex, believed: NDArray[np.bool_], size: Size) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """How many cells of the grid, and how many corners of the picture, believed points (E, M) reach."""
    shape = (size.height, size.width)
    across, down = grid_of(shape)
    cell = grid_cells(as_points(points.ravel()), shape).reshape(points.shape)
    held = np.zeros((len(points), across * down), np.bool_)
    rows = np.broadcast_to(np.arange(len(points))[:, None], points.shape)
    held[rows[believed], cell[believed]] = True
    left, right = points.real < CORNER * size.width, points.real > (1 - CORNER) * size.width
    top, bottom = points.imag < CORNER * size.height, points.imag > (1 - CORNER) * size.height
    corners = sum((believed & side & end).any(1).astype(np.intp) for side in (left, right) for end in (top, bottom))
    return held.sum(1), np.asarray(corners, np.intp)


def _tilted(
    table: Table, believed: NDArray[np.bool_], motion: Similarities, share: Floats, size: Size
) -> tuple[Similarities, Complex]:
    """The similarities with perspective: points that a similarity alone cannot explain may agree with one."""
    z, t = motion.z[:, None], motion.t[:, None]
    near = believed & (np.abs(z * table.source + t - table.target) < TILT_REACH_PX)
    source = np.where(near, table.source - size.centre, 0)
    still = np.where(near, (table.target - t) / z - size.centre, 0)
    none = np.zeros(len(z), np.complex128)
    off = np.abs(still - source)
    dz, dt, tilt = none, none, none
    for _ in range(TILT_ROUNDS):
        spread = np.maximum(LEAST_TILTED_SPREAD, 1.2 * row_medians(off, near))[:, None]
        weights = np.where(near, tukey(off, spread) / spread**2, 0.0) * share
        dz, dt, tilt = fit_tilts(source, still, weights, size, none, TILT_SPREAD)
        off = np.abs((1 + dz)[:, None] * tilted(tilt, source, size) + dt[:, None] - still)
    tilted_z = motion.z * (1 + dz)
    tilted_t = motion.z * (dt + size.centre) + motion.t - tilted_z * size.centre
    return Similarities(tilted_z, tilted_t), tilt


def tables_of(
    starts: NDArray[np.int64], source: Floats, target: Floats, weak: NDArray[np.bool_], label: NDArray[np.int32]
) -> Iterator[Table]:
    """Padded tables, each of some of the matches, which own rows `starts[e]` ... `starts[e + 1]` of points (K, 2)."""
    for first in range(0, max(1, len(starts) - 1), AT_A_TIME):
        part = starts[first : first + AT_A_TIME + 1]
        rows = slice(int(part[0]), int(part[-1]))
        yield _table_of(np.diff(part), source[rows], target[rows], weak[rows], label[rows])


def _table_of(
    counts: NDArray[np.int64], source: Floats, target: Floats, weak: NDArray[np.bool_], label: NDArray[np.int32]
) -> Table:
    there = np.arange(max(1, int(counts.max(initial=0)))) < counts[:, None]

    def padded(values: np.ndarray, empty: float) -> np.ndarray:
        table = np.full(there.shape, empty, values.dtype)
        table[there] = values
        return table

    return Table(
        padded(as_complex(source), 0), padded(as_complex(target), 0), there, padded(weak, 0),
        padded(label.astype(np.int32), -1),
    )  # fmt: skip
