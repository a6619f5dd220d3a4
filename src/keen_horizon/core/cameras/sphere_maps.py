"""Where the samples of a picture lie in a sphere's, for every sample at once."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.sphere import Sphere

Singles = NDArray[np.float32]
Moved = Callable[[Singles], Singles]
Maps = tuple[NDArray[np.float32], NDArray[np.float32]]

CELL = 4  # samples a side
BENT_PX = 0.02  # how far places may lie off
ROWS = 16  # that are worked on at a time, so that they stay in a processor's cache
AROUND = 4  # samples of its other side, or from over the pole, that a sphere's picture is widened by


def sphere_maps(sphere: Sphere, rays: Callable[[Singles], Singles], rows: int, columns: int) -> Maps:
    """Columns and rows (rows, columns), float32 px of the sphere's picture, that samples come from.

    `rays` gives the sphere's rays (P, 3) of samples (P, 2), in single precision: to 0.001 px. They are asked for in the
    middle of cells, and places between those are on straight lines. Where the picture's sides meet, around the poles,
    and wherever else that would be wrong by BENT_PX, each sample is asked for.
    """
    down, across = ((np.arange(-1, -(-side // CELL) + 1) + 0.5) * CELL - 0.5 for side in (rows, columns))
    x, y = np.meshgrid(across.astype(np.float32), down.astype(np.float32))
    found = sphere.points(rays(np.stack([x.ravel(), y.ravel()], -1))).reshape(*x.shape, 2)
    whole = _enlarged(found, rows, columns)
    bent = np.repeat(np.repeat(_bent(found), CELL, 0), CELL, 1)
    row, column = np.nonzero(bent[CELL // 2 :, CELL // 2 :][:rows, :columns])
    if len(row):
        points = np.stack([column, row], -1).astype(np.float32)
        whole[:, row, column] = sphere.points(rays(points)).T
    return whole[0], whole[1]


def turned_maps(sphere: Sphere, places: tuple[Singles, Singles], turn: Singles, moved: Moved | None = None) -> Maps:
    """The same for a picture that shows all around too: of columns at longitudes (C,) and rows at latitudes (R,), rad.

    `turn` (3, 3) takes its rays to the sphere's, and `moved` those on, in a picture (R, C, 3). Every sample is asked
    for, which is quick: sines and turns are shared along rows and columns.
    """
    longitudes, latitudes = places
    level = np.outer(turn[:, 0], np.sin(longitudes)) + np.outer(turn[:, 2], np.cos(longitudes))
    whole = np.empty((2, len(latitudes), len(longitudes)), np.float32)
    for row in range(0, len(latitudes), ROWS):
        latitude = latitudes[row : row + ROWS, None]
        flat, down = np.cos(latitude), np.sin(latitude)
        x, y, z = (flat * part + down * along for part, along in zip(level, turn[:, 1], strict=True))
        if moved is not None:
            x, y, z = np.moveaxis(moved(np.stack([x, y, z], -1)), -1, 0)
        whole[0, row : row + ROWS] = np.arctan2(x, z)
        whole[1, row : row + ROWS] = np.arctan2(y, np.sqrt(x * x + z * z))
    size = sphere.size
    steps = (size.width / sphere.across, size.height / np.pi)
    for values, px, side in zip(whole, steps, (size.width, size.height), strict=True):
        values *= np.float32(px)
        values += np.float32(side / 2 - 0.5)
    return whole[0], whole[1]


def _enlarged(found: Singles, rows: int, columns: int) -> NDArray[np.float32]:
    """Values of all samples (2, rows, columns) from those of cells' middles (n, m, 2), straight between them."""
    size = (found.shape[1] * CELL, found.shape[0] * CELL)
    part = slice(CELL, CELL + rows), slice(CELL, CELL + columns)
    whole = np.empty((2, rows, columns), np.float32)
    for axis in (0, 1):
        values = np.ascontiguousarray(found[..., axis], np.float32)
        whole[axis] = cv2.resize(values, size, interpolation=cv2.INTER_LINEAR)[part]
    return whole


def _bent(found: Singles) -> NDArray[np.bool_]:
    """Between which four cells (n-1, m-1) straight lines between places (n, m, 2) are wrong by too much: they are so by
    an eighth of the second differences along each way.
    """
    off = np.maximum(_second(found, 1), _second(found, 0)).max(-1) / 4
    largest = np.maximum(np.maximum(off[:-1, :-1], off[:-1, 1:]), np.maximum(off[1:, :-1], off[1:, 1:]))
    return np.asarray(largest > BENT_PX)


def _second(found: Singles, axis: int) -> Singles:
    """The size of second differences along an axis, those at the ends as their neighbours'."""
    inner = np.abs(np.diff(found, 2, axis=axis))
    width = [(1, 1) if side == axis else (0, 0) for side in range(3)]
    return np.pad(inner, width, mode="edge") if inner.shape[axis] else np.zeros_like(found)


def widened(plane: NDArray[np.uint8 | np.uint16], whole: bool) -> NDArray[np.uint8 | np.uint16]:
    """A sphere's plane with AROUND more samples on every side: what lies there on the sphere."""
    columns = plane.shape[1]
    if whole:
        turned = np.roll(plane, columns // 2, axis=1) if columns % 2 == 0 else plane
        above, below = turned[AROUND - 1 :: -1], turned[: -AROUND - 1 : -1]
        tall = np.concatenate([above, plane, below])
        return np.ascontiguousarray(np.concatenate([tall[:, -AROUND:], tall, tall[:, :AROUND]], axis=1))
    return np.asarray(cv2.copyMakeBorder(plane, AROUND, AROUND, AROUND, AROUND, cv2.BORDER_REPLICATE))
