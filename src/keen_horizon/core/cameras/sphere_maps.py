"""Where the samples of a picture lie in a sphere's, for every sample at once."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere

Floats = NDArray[np.float64]
Maps = tuple[NDArray[np.float32], NDArray[np.float32]]

CELL = 8  # samples a side
BENT_PX = 0.02  # how far places may lie off
FEW = 0.05
ROWS = 32  # that are worked on at a time, so that they stay in a processor's cache
MISSED = 0.03  # of a third difference, that parabolas miss at most along both ways
AROUND = 4  # samples of its other side, or from over the pole, that a sphere's picture is widened by


def sphere_maps(sphere: Sphere, rays: Callable[[Floats], Floats], rows: int, columns: int) -> Maps:
    """Columns and rows (rows, columns), float32 px of the sphere's picture, that samples come from.

    `rays` gives the sphere's rays (P, 3) of samples (P, 2). They are asked for in the middle of cells; between those,
    places are on straight lines, or on parabolas where that is wrong in more than a FEW places. Where the picture's
    sides meet, around the poles, and wherever else that would be wrong by BENT_PX, each sample is asked for.
    """
    down, across = ((np.arange(-1, -(-side // CELL) + 1) + 0.5) * CELL - 0.5 for side in (rows, columns))
    x, y = np.meshgrid(across, down)
    found = sphere.points(rays(np.stack([x.ravel(), y.ravel()], -1))).reshape(*x.shape, 2)
    along, across = _second(found, 1), _second(found, 0)
    bent = _bent(np.maximum(np.abs(along), np.abs(across)) / 4)
    whole = _enlarged(found, rows, columns)
    if bent.mean() > FEW:
        _sag(whole, along, across)
        bent = _bent(MISSED * np.maximum(_third(along, 1), _third(across, 0)))
    bent = np.repeat(np.repeat(bent, CELL, 0), CELL, 1)
    row, column = np.nonzero(bent[CELL // 2 :, CELL // 2 :][:rows, :columns])
    if len(row):
        points = np.stack([column, row], -1).astype(np.float64)
        whole[:, row, column] = sphere.points(rays(points)).T
    return whole[0], whole[1]


def _enlarged(found: Floats, rows: int, columns: int) -> NDArray[np.float32]:
    """Values of all samples (2, rows, columns) from those of cells' middles (n, m, 2), straight between them."""
    size = (found.shape[1] * CELL, found.shape[0] * CELL)
    part = slice(CELL, CELL + rows), slice(CELL, CELL + columns)
    whole = np.empty((2, rows, columns), np.float32)
    for axis in (0, 1):
        values = np.ascontiguousarray(found[..., axis], np.float32)
        whole[axis] = cv2.resize(values, size, interpolation=cv2.INTER_LINEAR)[part]
    return whole


def _sag(whole: NDArray[np.float32], along: Floats, across: Floats) -> None:
    """Turn straight lines between places into parabolas, by second differences (n, m, 2) along and across."""
    rows, columns = whole.shape[1:]
    phase = ((np.arange(CELL) + 0.5) / CELL + 0.5) % 1  # of samples, from a cell's middle to the next
    sag = (phase * (1 - phase) / 2).astype(np.float32)
    of_columns, of_rows = np.resize(sag, columns), np.resize(sag, rows)
    first, second = _enlarged(along, rows, columns), _enlarged(across, rows, columns)
    for axis in (0, 1):
        for row in range(0, rows, ROWS):
            here = slice(row, row + ROWS)
            first[axis, here] *= of_columns
            second[axis, here] *= of_rows[here, None]
            first[axis, here] += second[axis, here]
            whole[axis, here] -= first[axis, here]


def _second(found: Floats, axis: int) -> Floats:
    """Second differences along an axis, those at the ends as their neighbours'."""
    inner = np.diff(found, 2, axis=axis)
    width = [(1, 1) if side == axis else (0, 0) for side in range(3)]
    return np.pad(inner, width, mode="edge") if inner.shape[axis] else np.zeros_like(found)


def _third(second: Floats, axis: int) -> Floats:
    """How much second differences (n, m, 2) change along an axis, to either side."""
    change = np.abs(np.diff(second, axis=axis))
    before, after = [(0, 0)] * 3, [(0, 0)] * 3
    before[axis], after[axis] = (1, 0), (0, 1)
    return np.asarray(np.maximum(np.pad(change, before), np.pad(change, after)))


def _bent(off: Floats) -> NDArray[np.bool_]:
    """Between which four cells (n-1, m-1) places are wrong by too much, of how much they are at each (n, m, 2)."""
    at = off.max(-1)
    largest = np.maximum(np.maximum(at[:-1, :-1], at[:-1, 1:]), np.maximum(at[1:, :-1], at[1:, 1:]))
    return np.asarray(largest > BENT_PX)


def widened(plane: NDArray[np.uint8 | np.uint16], whole: bool) -> NDArray[np.uint8 | np.uint16]:
    """A sphere's plane with AROUND more samples on every side: what lies there on the sphere."""
    columns = plane.shape[1]
    if whole:
        turned = np.roll(plane, columns // 2, axis=1) if columns % 2 == 0 else plane
        above, below = turned[AROUND - 1 :: -1], turned[: -AROUND - 1 : -1]
        tall = np.concatenate([above, plane, below])
        return np.ascontiguousarray(np.concatenate([tall[:, -AROUND:], tall, tall[:, :AROUND]], axis=1))
    return np.asarray(cv2.copyMakeBorder(plane, AROUND, AROUND, AROUND, AROUND, cv2.BORDER_REPLICATE))
