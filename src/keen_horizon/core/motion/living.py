"""Points that keep an identity from the frame in which they are first seen until they are lost.

Corners first; cells of the picture that have too few of them get weak points, found and followed in the picture at
half the size, so that a wall, a sky or a blurred street has its say too.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.tracking import (
    USUAL,
    Detail,
    Gray,
    Points,
    cell_count,
    grid_cells,
    nearby,
    rank_in_run,
    spread_corners,
    spread_weak,
    there_and_back,
)

APART_PX = 5.0  # between points
FRESH_EVERY, FRESH_BELOW = 4, 0.7
TOGETHER_PX = 2.0  # two points that come so close follow the same thing

Way = Callable[[Gray, Gray, Points, Points, bool], tuple[Points, NDArray[np.bool_]]]


@dataclass(frozen=True)
class Lookout:
    """A picture that is analysed, (rows, columns) of luma, and the same at half the size for weak points."""

    gray: Gray
    half: Gray

    @staticmethod
    def of(gray: Gray) -> Lookout:
        """Both sizes of a picture."""
        size = (max(8, gray.shape[1] // 2), max(8, gray.shape[0] // 2))
        return Lookout(gray, np.asarray(cv2.resize(gray, size, interpolation=cv2.INTER_AREA), np.uint8))


@dataclass(frozen=True)
class Lived:
    """Points that were followed over a pair of frames: where (N, 2) in both, who (N,), and whether weak (N,)."""

    source: Points
    target: Points
    identity: NDArray[np.int32]
    weak: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.source)

    def only(self, kept: NDArray[np.bool_] | NDArray[np.intp]) -> Lived:
        """Some of them."""
        return Lived(self.source[kept], self.target[kept], self.identity[kept], self.weak[kept])


def no_points() -> Lived:
    """Nothing followed."""
    none = np.zeros((0, 2), np.float32)
    return Lived(none, none, np.zeros(0, np.int32), np.zeros(0, np.bool_))


@dataclass
class LivingPoints:
    """The points alive in the last frame: `places` (N, 2), `identity` (N,), `weak` (N,); `born` so far; how many there
    were when `filled` last, `age` frames ago; in what `detail` pictures are looked at.
    """

    places: Points = field(default_factory=lambda: np.zeros((0, 2), np.float32))
    identity: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    weak: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    born: int = 0
    filled: int = 0
    age: int = FRESH_EVERY
    detail: Detail = USUAL

    def offered(self, picture: Lookout) -> Lived:
        """What can be followed from a picture on: the living, refilled where need be."""
        if self.age >= FRESH_EVERY or len(self.places) < FRESH_BELOW * self.filled:
            self._refill(picture)
        return Lived(self.places, self.places, self.identity, self.weak)

    def follow(self, before: Lookout, after: Lookout) -> Lived:
        """Follow the living from one picture to the next; those that are lost die."""
        lived = followed(before, after, self.offered(before))
        self.age += 1
        self.places, self.identity, self.weak = lived.target, lived.identity, lived.weak
        return lived

    def die(self) -> None:
        """Nothing of what was seen goes on: a change of shot."""
        none = no_points()
        self.places, self.identity, self.weak = none.target, none.identity, none.weak
        self.age = FRESH_EVERY

    def revive(self, found: Lived) -> None:
        """Go on with points that were found again behind something that hid them."""
        again = found.only(~np.isin(found.identity, self.identity))
        self.places = np.concatenate([self.places, again.target])
        self.identity = np.r_[self.identity, again.identity]
        self.weak = np.r_[self.weak, again.weak]

    def at(self, identity: NDArray[np.int32]) -> tuple[Points, NDArray[np.bool_]]:
        """Where the points of that identity (K,) are now, (K, 2), and which of them (K,) are alive."""
        if not len(self.identity):
            return np.zeros((len(identity), 2), np.float32), np.zeros(len(identity), np.bool_)
        order = np.argsort(self.identity)
        found = np.minimum(np.searchsorted(self.identity, identity, sorter=order), len(order) - 1)
        rows = order[found]
        return self.places[rows], self.identity[rows] == identity

    def one_a_cell(self, shape: tuple[int, ...]) -> NDArray[np.intp]:
        """The living points that a key frame keeps: one of each cell, corners before weak ones."""
        own = grid_cells(self.places, shape, self.detail.grid)
        order = np.lexsort((np.arange(len(self.places)), self.weak, own))
        cells = own[order]
        return np.sort(order[np.r_[True, cells[1:] != cells[:-1]]]) if len(order) else order

    def _refill(self, picture: Lookout) -> None:
        shape, grid, per_cell = picture.gray.shape, self.detail.grid, self.detail.per_cell
        self._thin(shape)
        for weak in (False, True):
            count = np.bincount(grid_cells(self.places, shape, grid), minlength=cell_count(shape, grid))
            short = count < per_cell
            if not short.any():
                break
            found = (
                spread_weak(picture.half, shape, self.detail) if weak else spread_corners(picture.gray, per_cell, grid)
            )
            self._take(found[short[grid_cells(found, shape, grid)]], weak)
        self.filled, self.age = len(self.places), 0

    def _thin(self, shape: tuple[int, ...]) -> None:
        """Points that came together follow the same thing: the younger ones go; so do crowds in one cell."""
        if not len(self.places):
            return
        across = int(shape[1] / TOGETHER_PX) + 1
        bins = (self.places // TOGETHER_PX).astype(np.int64) @ (1, across)
        order = np.lexsort((self.identity, self.weak, bins))
        first = np.r_[True, np.diff(bins[order]) != 0]
        kept = np.sort(order[first])
        cells = grid_cells(self.places[kept], shape, self.detail.grid)
        ranked = np.lexsort((self.identity[kept], self.weak[kept], cells))
        kept = kept[np.sort(ranked[rank_in_run(cells[ranked]) < 2 * self.detail.per_cell])]
        self.places, self.identity, self.weak = self.places[kept], self.identity[kept], self.weak[kept]

    def _take(self, fresh: Points, weak: bool) -> None:
        """Give birth to points apart from those that live."""
        if len(fresh) and len(self.places):
            apart = np.abs(fresh[:, None] - self.places[None]).max(-1).min(1) >= APART_PX
            fresh = fresh[apart]
        names = np.arange(self.born, self.born + len(fresh), dtype=np.int32)
        self.born += len(fresh)
        self.places = np.concatenate([self.places, fresh])
        self.identity = np.concatenate([self.identity, names])
        self.weak = np.concatenate([self.weak, np.full(len(fresh), weak)])


def followed(before: Lookout, after: Lookout, points: Lived) -> Lived:
    """Follow points from their `source` to another picture and back; only those that return."""
    return _sought(there_and_back, (before, after), points, points.source)


def found_nearby(before: Lookout, after: Lookout, points: Lived, guess: Points) -> Lived:
    """Points that lie within a few pixels of a guess (N, 2) in another picture, sought one way only."""
    return _sought(nearby, (before, after), points, guess)


def _sought(way: Way, pictures: tuple[Lookout, Lookout], points: Lived, guess: Points) -> Lived:
    """Points sought in another picture, weak ones at half the size."""
    there = np.zeros_like(points.source)
    good = np.zeros(len(points), np.bool_)
    before, after = pictures
    strong, weak = np.flatnonzero(~points.weak), np.flatnonzero(points.weak)
    if len(strong):
        there[strong], good[strong] = way(before.gray, after.gray, points.source[strong], guess[strong], False)
    if len(weak):
        halved = _halved(points.source[weak]), _halved(guess[weak])
        found, good[weak] = way(before.half, after.half, *halved, True)
        there[weak] = 2 * found + 0.5
    return Lived(points.source[good], there[good], points.identity[good], points.weak[good])


def _halved(points: Points) -> Points:
    return np.asarray((points - 0.5) / 2, np.float32)


def together(lists: list[Lived]) -> Lived:
    """Lists of followed points as one."""
    parts = [no_points(), *lists]
    return Lived(
        *(np.concatenate([getattr(p, name) for p in parts]) for name in ("source", "target", "identity", "weak"))
    )
