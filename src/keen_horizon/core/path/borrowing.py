"""How far frames can lend picture to each other, before a pixel is touched.

Frame j lends to the output of frame i where src_j_from_out_i = P_j^-1 P_i S_i falls inside it. Along a ray
from the middle of the output to its border every frame covers an interval, so what all of them cover
without a hole is found by joining intervals, starting with the frame's own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities, as_complex
from keen_horizon.core.geometry.tilt import tilted

Floats = NDArray[np.float64]

RAYS = 64
MARGIN_PX = 3.0
EACH_WAY = 10


@dataclass(frozen=True)
class Borrowing:
    """Frames that lend, by their distance in `offsets`, nearest first; `reach` (N, RAYS) how far from the
    middle (0) to the border (1) of the unzoomed output each ray finds picture.
    """

    offsets: tuple[int, ...]
    reach: Floats

    def demand(self) -> Floats:
        """The zoom (N,) whose window needs nothing that is not found."""
        return np.asarray(1 / np.maximum(self.reach.min(1), 0.05))


def lending_offsets(seconds: float, rate: float) -> tuple[int, ...]:
    """Distances in frames, nearest first, both ways, at most EACH_WAY a side, denser near by."""
    furthest = max(1, round(seconds * rate))
    steps = np.unique(np.rint(np.geomspace(1, furthest, min(EACH_WAY, furthest))).astype(int))
    return tuple(int(sign * step) for step in steps for sign in (1, -1))


def borrowing(
    poses: Similarities, correction: Similarities, tilt: Complex, size: Size, offsets: tuple[int, ...]
) -> Borrowing:
    """What frames with centred `poses` (N,) can lend to outputs corrected by `correction` (N,) and `tilt` (N,)."""
    border = as_complex(_ring(size)) - size.centre
    rays = tilted(tilt, border, size) if tilt.any() else np.broadcast_to(border, (len(poses), RAYS))
    every, ray = (index.ravel() for index in np.indices(rays.shape))
    low, high = _covered(correction, every, rays.ravel(), size, 0.0)
    reach = np.where(low <= 0, np.clip(high, 0, 1), 0.0)
    short = np.flatnonzero(reach < 1)  # only these rays need anybody
    frame, along = every[short], rays[every[short], ray[short]]
    seen = poses @ correction
    lent = []
    for offset in offsets:
        other = np.arange(len(poses)) + offset
        there = ((other >= 0) & (other < len(poses)))[frame]
        motion = poses[np.clip(other, 0, len(poses) - 1)].inverse() @ seen
        low, high = _covered(motion, frame, along, size, MARGIN_PX)
        lent.append((np.where(there, low, np.inf), high))
    found = reach[short]
    for _ in range(6):
        before = found.copy()
        for low, high in lent:
            found = np.where((low <= found) & (high > found), high, found)
        if not len(found) or (found - before).max() < 1e-4:
            break
    reach[short] = np.minimum(found, 1.0)
    return Borrowing(offsets, reach.reshape(rays.shape))


def _ring(size: Size) -> Floats:
    """Points (RAYS, 2) round the border, corners among them."""
    along = np.linspace(0, 1, RAYS // 4, endpoint=False)[:, None]
    corners = size.corners()
    sides = [corners[i] + along * (corners[(i + 1) % 4] - corners[i]) for i in range(4)]
    return np.concatenate(sides)


def _covered(
    motion: Similarities, frame: NDArray[np.intp], rays: Complex, size: Size, margin: float
) -> tuple[Floats, Floats]:
    """For points u r of rays r (M,), moved as their `frame` (M,) is: the interval of u that lands inside a frame.

    Low above high if none does.
    """
    along, shift = motion.z[frame] * rays, motion.t[frame]
    low, high = np.full(rays.shape, -np.inf), np.full(rays.shape, np.inf)
    for slope, at, half in (
        (along.real, shift.real, size.width / 2 - margin),
        (along.imag, shift.imag, size.height / 2 - margin),
    ):
        steep = np.where(np.abs(slope) < 1e-9, 1e-9, slope)
        one, two = (half - at) / steep, (-half - at) / steep
        low, high = np.maximum(low, np.minimum(one, two)), np.minimum(high, np.maximum(one, two))
    return low, np.where(low > high, -np.inf, high)


def found_area(borrowed: Borrowing, size: Size, zoom: Floats) -> Floats:
    """The share (N,) of the output, zoomed by `zoom` (N,), for which picture was found."""
    ring = as_complex(_ring(size)) - size.centre
    points = np.minimum(borrowed.reach * zoom[:, None], 1.0) * ring
    following = np.roll(points, -1, axis=1)
    area = np.abs((points.real * following.imag - points.imag * following.real).sum(1)) / 2
    return np.asarray(np.minimum(1.0, area / (size.width * size.height)))
