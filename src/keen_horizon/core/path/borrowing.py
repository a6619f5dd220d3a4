"""How far frames can lend picture to each other, before a pixel is touched.

Frame j lends to the output of frame i where src_j_from_out_i = P_j^-1 P_i S_i falls inside it. Along a ray
from the middle of the output to its border every frame covers an interval, so what all of them cover
without a hole is found by joining intervals, starting with the frame's own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities, as_complex
from keen_horizon.core.geometry.tilt import middle_shift, tilted
from keen_horizon.core.lens.dead_border import Cuts
from keen_horizon.core.lens.region import SeenRegion

Floats = NDArray[np.float64]
Reals = NDArray[np.floating]
Rays = NDArray[np.complexfloating]

RAYS = 64
MARGIN_PX = 3.0
EACH_WAY = 10
FINER = (16, 8, 4)  # parts that a step along a ray is parted into: 1/512 in the end


@dataclass(frozen=True)
class Borrowing:
    """Frames that lend, by their distance in `offsets`, nearest first; `reach` (N, rays) how far from the
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
    poses: Similarities,
    correction: Similarities,
    tilt: Complex,
    size: Size,
    offsets: tuple[int, ...],
    room: Floats,
    count: int = RAYS,
    cuts: Cuts | None = None,
) -> Borrowing:
    """What frames with centred `poses` (N,), shrunk by `room` (N,), can lend to outputs corrected by `correction` (N,)
    and `tilt` (N,). Beyond `cuts` they show nothing.

    It is looked for along `count` rays, a multiple of four.
    """
    border = as_complex(_ring(size, count)) - size.centre
    shift = middle_shift(tilt, size)  # a tilt moves the middle, where the rays begin
    correction = correction @ Similarities(np.ones(len(poses), np.complex128), shift)
    rays = tilted(tilt, border, size) - shift[:, None]
    every, ray = (index.ravel() for index in np.indices(rays.shape))
    own = np.arange(len(poses))
    low, high = _covered(correction, every, rays.ravel(), size, 0.0, room, cuts, own)
    reach = np.where(low <= 0, np.clip(high, 0, 1), 0.0)
    short = np.flatnonzero(reach < 1)  # only these rays need anybody
    frame = every[short]
    along = rays[frame, ray[short]].astype(np.complex64)  # a thousandth of a pixel is enough, at half the time
    seen = poses @ correction
    found = reach[short].astype(np.float32)
    lent = []
    for offset in offsets:
        wanting = np.flatnonzero(found < 1)
        other = np.arange(len(poses)) + offset
        there = (other >= 0) & (other < len(poses))
        lender = np.clip(other, 0, len(poses) - 1)
        motion = poses[lender].inverse() @ seen
        low, high = _covered(motion, frame[wanting], along[wanting], size, MARGIN_PX, room[lender], cuts, lender)
        low[~there[frame[wanting]]] = np.inf
        lent.append((wanting, low, high))
        _extend(found, *lent[-1])
    for _ in range(5):  # what reached no further before may now begin where another's picture ends
        before = found.copy()
        for interval in lent:
            _extend(found, *interval)
        if not len(found) or (found - before).max() < 1e-4:
            break
    reach[short] = np.minimum(found, 1.0)
    return Borrowing(offsets, _before_tilt(reach.reshape(rays.shape), (border / rays).real))


def _before_tilt(shares: Floats, deepened: Floats) -> Floats:
    """Shares (N, rays) of the way to where a tilt put a border, `deepened` times as deep, as shares of the way to where
    it lay before: what lies between moves by less than its share.
    """
    return np.asarray(shares / (1 + (deepened - 1) * (1 - shares)))


def borrowing_behind(
    region: SeenRegion,
    homographies: Callable[[int], Floats],
    offsets: tuple[int, ...],
    frames: NDArray[np.intp],
    *,
    own: Floats,
    count: int,
    middle: complex = 0j,
) -> Borrowing:
    """The same behind a lens: what `frames` (N,), clip numbering, can lend to windows in `region` about a place, px.

    `homographies` gives those (N, 3, 3) from every frame's flat picture into that of the frame so many away; `own` (N,)
    shares of the window show nothing but a frame's own picture. From there rays are followed outwards in steps, ever
    finer, until nobody has anything to show.
    """
    ring = as_complex(_ring(region.size, count)) - region.size.centre
    lenders = {offset: homographies(offset) for offset in (0, *offsets)}
    reach = np.repeat(np.floor(own * FINER[0])[:, None] / FINER[0], count, axis=1)
    step = 1.0
    for finer in FINER:
        step /= finer
        frame, ray = np.nonzero(reach < 1 - step / 2)
        reached = reach[frame, ray]
        most = min(finer, round(float((1 - reached.min(initial=1.0)) / step)))
        shares = np.minimum(reached[:, None] + step * np.arange(1, most + 1), 1.0)
        points = (middle + shares * ring[ray][:, None]).ravel()
        found = _anybody_sees(region, lenders, frames, np.repeat(frame, most), points)
        reach[frame, ray] += step * np.cumprod(found.reshape(shares.shape), 1).sum(1)
    return Borrowing(offsets, np.minimum(reach, 1.0))


def _anybody_sees(
    region: SeenRegion, lenders: dict[int, Floats], frames: NDArray[np.intp], of: NDArray[np.intp], points: Complex
) -> NDArray[np.bool_]:
    """Whether points (P,) of the windows of frames `of` (P,) lie in their own picture or in that of any lender."""
    seen = np.zeros(len(points), np.bool_)
    for offset, homographies in lenders.items():
        there = (of + offset >= 0) & (of + offset < len(frames))
        asked = np.flatnonzero(~seen & there)
        places = region.lent(homographies[of[asked]], points[asked], frames[of[asked]], offset)
        seen[asked] = region.shown(places, MARGIN_PX if offset else 0.0)
    return seen


def _extend(found: Reals, rays: NDArray[np.intp], low: Reals, high: Reals) -> None:
    """Let `rays` (M,) that found picture up to where an interval covers go on to its end."""
    now = found[rays]
    further = (low <= now) & (high > now)
    found[rays[further]] = high[further]


def _ring(size: Size, count: int) -> Floats:
    """Points (count, 2) round the border, corners among them."""
    along = np.linspace(0, 1, count // 4, endpoint=False)[:, None]
    corners = size.corners()
    sides = [corners[i] + along * (corners[(i + 1) % 4] - corners[i]) for i in range(4)]
    return np.concatenate(sides)


def _covered(
    motion: Similarities,
    frame: NDArray[np.intp],
    rays: Rays,
    size: Size,
    margin: float,
    room: Floats,
    cuts: Cuts | None,
    lender: NDArray[np.intp],
) -> tuple[Reals, Reals]:
    """For points u r of rays r (M,), moved as their `frame` (M,) is: the interval of u that lands inside a frame shrunk
    by `room` (N,), and within the cuts of the frames `lender` (N,).

    Low above high if none does.
    """
    z, t = (values.astype(rays.dtype)[frame] for values in (motion.z, motion.t))
    shrunk = room.astype(rays.real.dtype)[frame]
    low, high = _between(z.real * rays.real - z.imag * rays.imag, t.real, size.width / 2 / shrunk - margin)
    down_low, down_high = _between(z.real * rays.imag + z.imag * rays.real, t.imag, size.height / 2 / shrunk - margin)
    np.maximum(low, down_low, out=low)
    np.minimum(high, down_high, out=high)
    for number in range(0 if cuts is None else cuts.reaches.shape[1]):
        assert cuts is not None
        whose = lender[frame] if len(cuts.reaches) > 1 else np.zeros_like(frame)
        normal = cuts.normals[:, number].astype(rays.dtype)[whose]
        reach = cuts.reaches[:, number].astype(rays.real.dtype)[whose] / shrunk - rays.real.dtype.type(margin)
        side = np.conj(normal)
        _cut(low, high, (side * (z * rays)).real, reach - (side * t).real)
    high[low > high] = -np.inf
    return low, high


def _cut(low: Reals, high: Reals, slope: Reals, left: Reals) -> None:
    """Narrow intervals (M,) to where slope u <= left."""
    slope[np.abs(slope) < 1e-9] = 1e-9
    end = left / slope
    np.minimum(high, end, out=high, where=slope > 0)
    np.maximum(low, end, out=low, where=slope < 0)


def _between(slope: Reals, at: Reals, half: Reals) -> tuple[Reals, Reals]:
    """The interval of u, (M,) each end, for which |slope u + at| <= half."""
    slope[np.abs(slope) < 1e-9] = 1e-9
    inverse = 1 / slope
    middle, reach = -at * inverse, half * np.abs(inverse)
    return middle - reach, middle + reach


def found_area(borrowed: Borrowing, size: Size, zoom: Floats) -> Floats:
    """The share (N,) of the output, zoomed by `zoom` (N,), for which picture was found."""
    ring = as_complex(_ring(size, borrowed.reach.shape[1])) - size.centre
    points = np.minimum(borrowed.reach * zoom[:, None], 1.0) * ring
    following = np.roll(points, -1, axis=1)
    area = np.abs((points.real * following.imag - points.imag * following.real).sum(1)) / 2
    return np.asarray(np.minimum(1.0, area / (size.width * size.height)))
