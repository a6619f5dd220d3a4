"""Sizes of pictures, and their coordinates at other sizes.

The origin is the centre of the top-left pixel, so a picture w pixels wide covers -0.5 ... w - 0.5, and
going from one size to another is p' = (p + 0.5) k - 0.5, not p' = k p: the half pixel matters wherever
a frame is analysed, shown or stored (chroma) at a size of its own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Size:
    """Width and height in pixels."""

    width: int
    height: int

    @property
    def centre(self) -> complex:
        """The middle of the picture as x + iy."""
        return complex((self.width - 1) / 2, (self.height - 1) / 2)

    @property
    def half_diagonal(self) -> float:
        """Half the distance between opposite corners."""
        return float(np.hypot(self.width, self.height) / 2)

    def corners(self) -> Floats:
        """The outer corners (4, 2), clockwise from the top left."""
        right, bottom = self.width - 0.5, self.height - 0.5
        return np.array([[-0.5, -0.5], [right, -0.5], [right, bottom], [-0.5, bottom]])

    def sides(self, step: int = 1) -> tuple[Floats, Floats, Floats, Floats]:
        """Points (N, 2) along the top, right, bottom and left of the outer border, from corner to corner.

        They are at most `step` pixels apart.
        """
        across = np.linspace(-0.5, self.width - 0.5, max(2, -(-self.width // step) + 1))
        down = np.linspace(-0.5, self.height - 0.5, max(2, -(-self.height // step) + 1))
        top = np.stack([across, np.full_like(across, -0.5)], -1)
        bottom = np.stack([across, np.full_like(across, self.height - 0.5)], -1)
        left = np.stack([np.full_like(down, -0.5), down], -1)
        right = np.stack([np.full_like(down, self.width - 0.5), down], -1)
        return top, right, bottom, left

    def border(self, step: int = 1) -> Floats:
        """Points (N, 2) all round the outer border, at most `step` pixels apart, corners among them."""
        return np.concatenate(self.sides(step))

    def fitted(self, width: int) -> Size:
        """The same picture at most `width` wide, both sides even."""
        scale = min(1.0, width / self.width)
        return Size(max(2, round(self.width * scale / 2) * 2), max(2, round(self.height * scale / 2) * 2))


def resized(b_size: Size, a_size: Size) -> Floats:
    """The matrix (3, 3) b_from_a between two sizes of one picture."""
    kx, ky = b_size.width / a_size.width, b_size.height / a_size.height
    return np.array([[kx, 0.0, (kx - 1) / 2], [0.0, ky, (ky - 1) / 2], [0.0, 0.0, 1.0]])


def transform(b_from_a: Floats, points: Floats) -> Floats:
    """Map points (N, 2) by a homogeneous matrix (3, 3)."""
    mapped = points @ b_from_a[:2, :2].T + b_from_a[:2, 2]
    if tuple(b_from_a[2]) == (0, 0, 1):
        return np.asarray(mapped)
    depth = points @ b_from_a[2, :2] + b_from_a[2, 2]
    return np.asarray(mapped / depth[:, None])
