"""How far red and blue lie beside green at edges of a picture.

In small blocks of a blurred picture red is taken as a straight line of green, of its Laplacian (one colour may be
blurred more than another), and of its slopes. What the slopes take is how far red lies aside:

    red(p) = a + b green(p) + l laplacian(p) - b d . grad green(p),

which an edge tells across itself, and a corner both ways. Strong edges count most: encoders keep colours there.
"""

from __future__ import annotations

from dataclasses import dataclass, fields

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.glass.fringe import Fringe

Floats = NDArray[np.float64]
Points = NDArray[np.complex128]
Values = NDArray[np.float32]
Indices = NDArray[np.intp]

BLUR = 2.0  # samples, that pictures are blurred by
BLOCK = 16  # samples a side
CHOSEN = 600  # blocks of a frame at most, those with the steepest edges
WEAK_SLOPE = 0.015  # of the coded range a sample: an edge of it counts half
LEAST_WEIGHT = 0.1  # of a block's samples that count
LEAST_LIKENESS = 0.25  # of red's contrast to green's, in a block that counts
FURTHEST = 3.0  # samples, that a colour may lie aside of where it is expected
CODE_NOISE = 0.0005  # of the coded range, after blurring
INDEPENDENT = 1 / 25  # of the samples, after blurring
LEAST_ERROR = 0.15  # samples: no block is believed to be better
STORED = 60000.0  # of the whole codes that colours are kept in


@dataclass(frozen=True)
class Where:
    """Where blocks (n,) are: `places` of their middles in half-diagonals from the frame's, how these move a frame,
    `velocity`, and which `cells` of the scene they show.
    """

    places: Points
    velocity: Points
    cells: Indices


@dataclass(frozen=True)
class Blocks:
    """How far colours lie aside in blocks (n,): `shift` in half-diagonals, outwards of where green shows it.

    `known` (n, 2, 2) is the inverse covariance of the shift, `steep` (n, 2, 2) the mean square of the colour's slopes,
    coded ranges a half-diagonal. `colour` is 0 for red and 1 for blue, `frame` counts the frames looked at.
    """

    where: Where
    frame: Indices
    colour: Indices
    shift: Points
    known: Floats
    steep: Floats

    def only(self, kept: NDArray[np.bool_]) -> Blocks:
        """Some of the blocks."""
        where = Where(*(getattr(self.where, f.name)[kept] for f in fields(Where)))
        return Blocks(where, *(getattr(self, f.name)[kept] for f in fields(Blocks)[1:]))


def joined(parts: list[Blocks]) -> Blocks:
    """Blocks of several frames and colours as one table."""
    wheres = [part.where for part in parts]
    where = Where(*(np.concatenate([getattr(each, f.name) for each in wheres]) for f in fields(Where)))
    columns = (np.concatenate([getattr(part, f.name) for part in parts]) for f in fields(Blocks)[1:])
    return Blocks(where, *columns)


class ColourEdges:
    """The steepest blocks of one frame, `number` among those looked at."""

    def __init__(self, number: int, colours: Values, usable: NDArray[np.bool_]) -> None:
        """`colours` are R, G, B (3, rows, columns), 0 ... 1; not `usable` (rows, columns) where they are clipped."""
        self.number = number
        self.half = float(np.hypot(*colours.shape[1:])) / 2
        red, green, blue = (cv2.GaussianBlur(colour, (0, 0), BLUR) for colour in colours)
        self._others = _stored(red), _stored(blue)
        slopes = cv2.Scharr(green, cv2.CV_32F, 1, 0, scale=1 / 32), cv2.Scharr(green, cv2.CV_32F, 0, 1, scale=1 / 32)
        square = slopes[0] ** 2 + slopes[1] ** 2
        weight = _clear_of_clipping(usable) * square / (square + np.float32(WEAK_SLOPE**2))
        self._chosen = _steepest(weight, square)
        bend = cv2.Laplacian(green, cv2.CV_32F)
        self._weight = self._cut(weight)
        self._parts = np.stack([self._cut(part) for part in (green, bend, *slopes)], -1)
        rows, columns = green.shape
        self._middle = complex((columns - 1) / 2, (rows - 1) / 2)
        y, x = np.mgrid[0:rows, 0:columns].astype(np.float32)
        self._samples = (self._cut(x) + 1j * self._cut(y) - self._middle) / self.half

    @property
    def places(self) -> Points:
        """Middles of the chosen blocks (n,), half-diagonals from the frame's."""
        return np.asarray(self._samples.mean(1))

    def _cut(self, picture: Values) -> Values:
        """The chosen blocks' samples (n, BLOCK squared)."""
        return np.asarray(_in_blocks(picture)[self._chosen])

    def shifts(self, where: Where, fringe: Fringe) -> list[Blocks]:
        """How far red and blue lie aside; both are laid back by what is known already, and measured from there."""
        told = []
        for colour, spread in enumerate(fringe.colours):
            there = fringe.seen(spread, self._samples) * self.half + self._middle
            maps = there.real.astype(np.float32), there.imag.astype(np.float32)
            codes = cv2.remap(self._others[colour], *maps, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
            laid_back = fringe.seen(spread, where.places) - where.places
            told.append(self._regressed(where, colour, codes.astype(np.float32) / STORED, laid_back))
        return told

    def _regressed(self, where: Where, colour: int, seen: Values, laid_back: Points) -> Blocks:
        weight = self._weight[..., None]
        total = weight.sum(1)
        table = np.concatenate([self._parts, seen[..., None]], -1)
        table = table - (weight * table).sum(1, keepdims=True) / np.maximum(total, 1e-9)[:, None]
        products = (np.swapaxes(table, 1, 2) @ (weight * table)).astype(np.float64)
        normal, wanted = products[:, :4, :4] + 1e-9 * np.eye(4), products[:, :4, 4:]
        found = np.linalg.solve(normal, wanted)[..., 0]
        likeness = found[:, 0]
        mass = np.maximum(total[:, 0].astype(np.float64), 1e-9)
        noise = np.maximum(products[:, 4, 4] - np.einsum("ni,ni->n", found, wanted[..., 0]), 0) / mass + CODE_NOISE**2
        shared = normal[:, 2:, :2] @ np.linalg.solve(normal[:, :2, :2], normal[:, :2, 2:])
        told = (normal[:, 2:, 2:] - shared) * (likeness**2 * INDEPENDENT / noise)[:, None, None]
        away = -(found[:, 2] + 1j * found[:, 3]) / np.where(np.abs(likeness) < LEAST_LIKENESS, 1, likeness)
        good = (likeness > LEAST_LIKENESS) & (mass > LEAST_WEIGHT * BLOCK**2) & (np.abs(away) < FURTHEST)
        kept = np.flatnonzero(good)
        # no block is believed further than LEAST_ERROR
        known = np.linalg.inv(np.linalg.inv(told[kept] + 1e-3 * np.eye(2)) + LEAST_ERROR**2 * np.eye(2))
        steep = normal[kept, 2:, 2:] * (likeness[kept] ** 2 / mass[kept])[:, None, None]
        there = Where(where.places[kept], where.velocity[kept], where.cells[kept])
        shift = laid_back[kept] + away[kept] / self.half
        numbers = np.full(len(kept), self.number), np.full(len(kept), colour)
        return Blocks(there, *numbers, shift, np.asarray(known * self.half**2), steep * self.half**2)


def _stored(colour: Values) -> NDArray[np.uint16]:
    return np.asarray(np.clip(colour * STORED, 0, 65535), np.uint16)


def _clear_of_clipping(usable: NDArray[np.bool_]) -> Values:
    """1 where blurring reached no sample that cannot be used, nor the frame's edge."""
    reach = 2 * round(2 * BLUR) + 1
    kernel = np.ones((reach, reach), np.uint8)
    clear = cv2.erode(usable.astype(np.uint8), kernel, borderType=cv2.BORDER_CONSTANT, borderValue=0)
    return np.asarray(clear, np.float32)


def _in_blocks(picture: Values) -> Values:
    """The samples of all whole blocks, row by row (n, BLOCK squared)."""
    rows, columns = (side // BLOCK for side in picture.shape)
    whole = picture[: rows * BLOCK, : columns * BLOCK].reshape(rows, BLOCK, columns, BLOCK)
    return np.asarray(whole.swapaxes(1, 2).reshape(rows * columns, BLOCK * BLOCK))


def _steepest(weight: Values, square: Values) -> Indices:
    """The blocks with the steepest edges."""
    energy = _in_blocks(weight * square).sum(1)
    some = _in_blocks(weight).mean(1) > LEAST_WEIGHT
    order = np.argsort(np.where(some, -energy, 0))
    return np.sort(order[: min(CHOSEN, int(some.sum()))])
