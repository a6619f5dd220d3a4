"""What a mesh may do, and the nearest one that does: it moves nothing further than the limit, stretches nothing by more
than a twentieth, folds nothing over, and draws nothing in from beyond the source's border.

All that is convex, so the nearest field is found by alternating directions (Boyd et al. 2011), and fields that change
little from frame to frame stay so: a projection brings nothing further apart.
"""

from __future__ import annotations

import numpy as np
from scipy.linalg import cho_factor, cho_solve

from keen_horizon.core.geometry.mesh import Grid, stretch_of
from keen_horizon.core.geometry.similarity import Floats

MOST_STRETCH = 0.05
# A change of G = S + A, S symmetric, A a turn: lengths change by |S| + |G|^2 / 2 at most, and with these by a twentieth
STRAIN, TURN = 0.045, 0.05
ALLOWED = 0.99 * MOST_STRETCH  # lengths change a little less than in step with what they are moved by
EASINGS = 4  # rounds of that: each but the first eases by a tenth of a per cent or less
ROUNDS = 30
AT_A_TIME = 500  # frames


def held(wanted: Floats, grid: Grid, reach: Floats, room: Floats) -> Floats:
    """The controls (N, rows, columns, 2) nearest to those `wanted` that keep to `reach` (N, rows, columns), px.

    At the left, top, right and bottom nothing is drawn in from further than there is `room` (N, 4), px.
    """
    found = np.empty_like(wanted)
    for start in range(0, len(wanted), AT_A_TIME):
        part = slice(start, start + AT_A_TIME)
        found[part] = _nearest(wanted[part], grid, reach[part], room[part])
    for _ in range(EASINGS):
        share = np.minimum(1.0, ALLOWED / np.maximum(stretch_of(found, grid), 1e-9))
        if (share == 1).all():
            break
        found *= share[:, None, None, None]
    return found


def _nearest(wanted: Floats, grid: Grid, reach: Floats, room: Floats) -> Floats:
    within = _within(wanted, reach, room)
    easy = stretch_of(within, grid) <= ALLOWED
    hard = np.flatnonzero(~easy)
    if len(hard):
        within[hard] = _alternated(wanted[hard], grid, reach[hard], room[hard])
    return within


def _alternated(wanted: Floats, grid: Grid, reach: Floats, room: Floats) -> Floats:
    """By alternating between the field near what is wanted and what it and its changes may be."""
    rows, columns = grid.shape
    along, down = _differences(rows, columns)
    factor = cho_factor(2 * np.eye(rows * columns) + along.T @ along + down.T @ down)
    flat = _flat(wanted)
    field, places, changes = flat, flat, np.stack([along @ flat, down @ flat])
    off_places, off_changes = np.zeros_like(places), np.zeros_like(changes)
    for _ in range(ROUNDS):
        places = _flat(_within(_grid(field + off_places, wanted.shape), reach, room))
        told = np.stack([along @ field, down @ field])
        changes = _flat_enough(told + off_changes, grid)
        off_places, off_changes = off_places + field - places, off_changes + told - changes
        pull = changes - off_changes
        right = flat + places - off_places + along.T @ pull[0] + down.T @ pull[1]
        field = cho_solve(factor, right, check_finite=False)
    return _within(_grid(field, wanted.shape), reach, room)


def _flat(fields: Floats) -> Floats:
    """Fields (N, rows, columns, 2) as columns (rows columns, 2 N)."""
    return np.ascontiguousarray(np.moveaxis(fields, 0, 2).reshape(fields.shape[1] * fields.shape[2], -1))


def _grid(columns: Floats, shape: tuple[int, ...]) -> Floats:
    count, rows, across, _ = shape
    return np.asarray(np.moveaxis(columns.reshape(rows, across, count, 2), 2, 0))


def _differences(rows: int, columns: int) -> tuple[Floats, Floats]:
    """Mean differences of every block of 2 x 2 controls, along and down, as matrices on flat fields."""

    def mean(count: int) -> Floats:
        return np.asarray((np.eye(count)[1:] + np.eye(count)[:-1]) / 2)

    along = np.asarray(np.kron(mean(rows), np.diff(np.eye(columns), axis=0)))
    down = np.asarray(np.kron(np.diff(np.eye(rows), axis=0), mean(columns)))
    return along, down


def _within(fields: Floats, reach: Floats, room: Floats) -> Floats:
    """Fields no longer than their reach, that at each side draw nothing in from further than there is room."""
    found = shortened(fields, reach)
    x, y = found[..., 0], found[..., 1]
    left, top, right, bottom = (side[:, None, None] for side in room.T)
    np.maximum(x[:, :, :2], -left, out=x[:, :, :2])
    np.maximum(y[:, :2], -top, out=y[:, :2])
    np.minimum(x[:, :, -2:], right, out=x[:, :, -2:])
    np.minimum(y[:, -2:], bottom, out=y[:, -2:])
    return found


def shortened(fields: Floats, reach: Floats) -> Floats:
    """Fields (N, rows, columns, 2) no longer than their reach (N, rows, columns)."""
    length = np.hypot(fields[..., 0], fields[..., 1])
    return np.asarray(fields * np.minimum(1.0, reach / np.maximum(length, 1e-12))[..., None])


def _flat_enough(changes: Floats, grid: Grid) -> Floats:
    """Changes (2: along and down, blocks, 2 N), px a cell, whose strain and turn keep to what they may."""
    width, height = grid.cell
    along, down = changes[0] / width, changes[1] / height
    xx, yx, xy, yy = along[:, ::2], along[:, 1::2], down[:, ::2], down[:, 1::2]
    turn = np.clip((yx - xy) / 2, -TURN, TURN)
    shear, mean, apart = (yx + xy) / 2, (xx + yy) / 2, (xx - yy) / 2
    radius = np.hypot(apart, shear)
    most, least = np.clip(mean + radius, -STRAIN, STRAIN), np.clip(mean - radius, -STRAIN, STRAIN)
    mean, share = (most + least) / 2, (most - least) / 2 / np.maximum(radius, 1e-12)
    apart, shear = apart * share, shear * share
    found = np.empty_like(changes)
    found[0, :, ::2], found[0, :, 1::2] = (mean + apart) * width, (shear + turn) * width
    found[1, :, ::2], found[1, :, 1::2] = (shear - turn) * height, (mean - apart) * height
    return found
