"""Made-up lenses and straight things seen through them, for tests of the lens."""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens, fisheye_of

FULL_HD = Size(1920, 1080)


def random_lens(random: np.random.Generator) -> Lens:
    """A lens between 70 and 170 degrees from corner to corner, of any family, a moustache one among them."""
    centre = complex(*random.normal(0, 0.01, 2))
    kind = random.integers(6)
    if kind < 3:
        family = ("equidistant", "equisolid", "stereographic")[kind]
        return Lens(family, fisheye_of(family, random.uniform(70, 170)).k, centre)
    if kind == 3:
        return Lens("division", (random.uniform(-0.45, -0.05), random.uniform(-0.03, 0.03)), centre)
    if kind == 4:
        return Lens("polynomial", (random.uniform(-0.12, 0.1), random.uniform(0.0, 0.02)), centre)
    return Lens("inverse", (random.uniform(0.1, 0.25), random.uniform(-0.18, -0.1)), centre)


def straight_things(
    lens: Lens, count: int, random: np.random.Generator, points: int = 7, away: float = 0.0, size: Size = FULL_HD
) -> list[np.ndarray]:
    """Points (P, 2), exact, along `count` things that are straight in the world and long in the picture.

    They pass the middle at `away` half-diagonals or more: a line through the middle shows no bend, so nobody draws it.
    """
    lines: list[np.ndarray] = []
    while len(lines) < count:
        ends = random.uniform((40, 40), (size.width - 40, size.height - 40), (2, 2))
        along = ends[1] - ends[0]
        aside = ends[0] - (size.centre.real, size.centre.imag)
        length = np.hypot(*along)
        if length < 0.6 * size.width or abs(along[0] * aside[1] - along[1] * aside[0]) < away * size.half_diagonal * length:
            continue
        rays = _rays(lens, ends, size)
        share = np.linspace(0, 1, points)[:, None]
        along = rays[0] * (1 - share) + rays[1] * share
        lines.append(_seen(lens, along, size))
    return lines


def _rays(lens: Lens, points: np.ndarray, size: Size) -> np.ndarray:
    offset = (points - (size.centre.real, size.centre.imag)) / size.half_diagonal - (lens.centre.real, lens.centre.imag)
    depth = lens.kind.depth(np.hypot(*offset.T), np.array(lens.k))
    rays = np.column_stack([offset, depth])
    return rays / np.linalg.norm(rays, axis=1)[:, None]


def _seen(lens: Lens, rays: np.ndarray, size: Size) -> np.ndarray:
    """Where rays (N, 3) fall: their radius found by halving, which works past 90 degrees too."""
    low, high = np.zeros(len(rays)), np.full(len(rays), 1.6)
    across = np.hypot(rays[:, 0], rays[:, 1])
    for _ in range(60):
        middle = (low + high) / 2
        depth = lens.kind.depth(middle, np.array(lens.k))
        nearer = np.arctan2(middle, depth) < np.arctan2(across, rays[:, 2])
        low, high = np.where(nearer, middle, low), np.where(nearer, high, middle)
    offset = rays[:, :2] / np.maximum(across, 1e-12)[:, None] * low[:, None]
    offset = offset + (lens.centre.real, lens.centre.imag)
    return offset * size.half_diagonal + (size.centre.real, size.centre.imag)
