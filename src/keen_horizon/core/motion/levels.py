"""Which way is level: read off each picture's own lines, then joined over time.

In one picture, two things show the roll of the camera: a long straight line with little above it to compete
(a horizon), and upright edges (walls, posts, masts). Segments come from the line segment detector of von
Gioi et al. (2010). Uprights converge where the camera looks up or down, so their lean is fitted as
roll + k x about the middle of the picture; only its value there is roll.

Over time the roll changes by the turn that the motion measures, give or take a little where the camera
pans with a tilted axis: a scalar Kalman smoother (Rauch, Tung & Striebel 1965) joins both, with sights
that disagree with the rest left out.

Angles are radians, clockwise as seen (x to y): the direction in the picture that is horizontal in the world.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Gray = NDArray[np.uint8]
Floats = NDArray[np.float64]

NOTHING, HORIZON, UPRIGHTS = 0, 1, 2
EVERY = 24  # frames between sights: turns carry the level in between
SEARCH = np.radians(28)
DRIFT_PER_FRAME = np.radians(0.02)
BLIND_DRIFT = np.radians(2)
UNKNOWN = np.radians(90)
CONVERGENCE_SPREAD = 0.25  # radians of lean from the middle to the side, one standard deviation
ONE_SIGHT_AT_BEST = np.radians(0.06)
DOUBTFUL_LINE = np.radians(1.0)  # a long line with much above it may be a quay seen aslant
LONGEST = 120
UPRIGHT_SHARE = 0.35
FEWEST_ROWS = 6


@dataclass(frozen=True)
class LevelSight:
    """The level in one picture: `angle` and its standard deviation `sigma`, and what showed it (`kind`)."""

    angle: float
    sigma: float
    kind: int


@dataclass(frozen=True)
class Levels:
    """The level of N frames: `angle` (N,), `sigma` (N,), and what showed it nearest by, `kind` (N,)."""

    angle: Floats
    sigma: Floats
    kind: NDArray[np.int8]

    def __getitem__(self, frames: slice) -> Levels:
        return Levels(self.angle[frames], self.sigma[frames], self.kind[frames])

    @staticmethod
    def unknown(count: int) -> Levels:
        """Nothing known."""
        return Levels(np.zeros(count), np.full(count, UNKNOWN), np.zeros(count, np.int8))


def see_level(gray: Gray, expected: float = 0.0, fine: Gray | None = None) -> LevelSight | None:
    """The level that a picture (rows, columns) shows within 28 degrees of `expected`, or None.

    `fine` is the same picture at a larger size, where the edges found are placed more exactly.
    """
    fine = gray if fine is None else fine
    found = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(gray)[0]
    if found is None:
        return None
    ends = found.reshape(-1, 4).astype(np.float64)
    length = np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1])
    keep = length > 0.02 * gray.shape[0]
    ends, length = ends[keep], length[keep]
    horizon = _horizon(gray, fine, ends, length, expected)
    uprights = _uprights(gray, fine, ends, length, expected)
    if horizon is None or uprights is None:
        return horizon or uprights
    if abs(horizon.angle - uprights.angle) > 3 * np.hypot(horizon.sigma, uprights.sigma) + np.radians(0.5):
        return uprights  # a long line that is not level: a quay, a roof seen from the side
    weights = np.array([horizon.sigma, uprights.sigma]) ** -2.0
    angle = float((weights * [horizon.angle, uprights.angle]).sum() / weights.sum())
    return LevelSight(angle, float(weights.sum() ** -0.5), HORIZON if weights[0] > weights[1] else UPRIGHTS)


def _refined(fine: Gray, ends: Floats, scale: float) -> Floats:
    """Segments (N, 4) that run mostly down a picture, placed anew in its copy `fine`, `scale` times as large.

    In every row the edge is the centroid of the slope across it, of one sign, over seven pixels.
    """
    slope = cv2.Sobel(fine, cv2.CV_32F, 1, 0, ksize=3)
    height = fine.shape[0]
    ends = ends * scale + (scale - 1) / 2
    first = np.maximum(1, np.ceil(np.minimum(ends[:, 1], ends[:, 3])).astype(np.intp) + 1)
    count = np.minimum(height - 1, np.maximum(ends[:, 1], ends[:, 3]).astype(np.intp)) - first
    steep = np.flatnonzero(count >= FEWEST_ROWS)
    out = ends.copy()
    if len(steep):
        first, count = first[steep], count[steep]
        starts = np.r_[0, np.cumsum(count)[:-1]]
        segment = np.repeat(np.arange(len(steep)), count)
        rows = np.arange(len(segment)) - (starts - first)[segment]
        x0, y0, x1, y1 = ends[steep].T
        line = x0[segment] + (rows - y0[segment]) * ((x1 - x0) / (y1 - y0))[segment]
        at, weight = _edge_in_rows(slope, rows, line, segment, starts)
        total = np.add.reduceat(weight, starts)
        safe = np.maximum(total, 1e-6)
        middle, place = np.add.reduceat(weight * rows, starts) / safe, np.add.reduceat(weight * at, starts) / safe
        lever = rows - middle[segment]
        power = np.add.reduceat(weight * lever**2, starts)
        lean = np.add.reduceat(weight * lever * at, starts) / np.maximum(power, 1e-6)
        placed = (np.add.reduceat(weight > 0, starts, dtype=np.intp) >= FEWEST_ROWS) & (power > 0)
        top, low = first, first + count - 1
        edges = np.stack([place + lean * (top - middle), top, place + lean * (low - middle), low], -1)
        out[steep[placed]] = edges[placed]
    return np.asarray((out - (scale - 1) / 2) / scale)


def _edge_in_rows(
    slope: NDArray[np.float32],
    rows: NDArray[np.intp],
    line: Floats,
    segment: NDArray[np.intp],
    starts: NDArray[np.intp],
) -> tuple[Floats, Floats]:
    """Where the edge of each row is, within three pixels of `line`, and how much to believe it, (N,) both."""
    columns = np.clip(np.rint(line).astype(np.intp)[:, None] + np.arange(-3, 4), 0, slope.shape[1] - 1)
    found = slope[rows[:, None], columns].astype(np.float64)
    sign = np.sign(np.add.reduceat(found.sum(1), starts))
    strength = np.clip(found * sign[segment][:, None], 0, None)
    weight = strength.sum(1)
    at = (strength * columns).sum(1) / np.maximum(weight, 1e-6)
    usual = np.add.reduceat(weight, starts) / np.diff(np.r_[starts, len(rows)])
    return at, np.where(np.abs(at - line) < 2, np.minimum(weight, 2 * usual[segment]), 0.0)


def _horizon(gray: Gray, fine: Gray, ends: Floats, length: Floats, expected: float) -> LevelSight | None:
    width = gray.shape[1]
    lean = _half_turn(np.arctan2(ends[:, 3] - ends[:, 1], ends[:, 2] - ends[:, 0]) - expected)
    ends, length = ends[np.abs(lean) < SEARCH], length[np.abs(lean) < SEARCH]
    best: NDArray[np.intp] | None = None
    best_cover = 0.3
    for i in np.argsort(-length)[:12]:
        if length[i] < 0.08 * width:
            break
        members = _collinear(ends, i)
        cover = _covered(ends[members], width)
        if cover > best_cover:
            best, best_cover = members, cover
    if best is None:
        return None
    doubt = ONE_SIGHT_AT_BEST if _open_above(gray, ends[best]) else DOUBTFUL_LINE
    edges = _refined(np.ascontiguousarray(fine.T), ends[best][:, [1, 0, 3, 2]], fine.shape[1] / width)[:, [1, 0, 3, 2]]
    points = edges.reshape(-1, 2)
    weights = np.repeat(length[best], 2)
    middle = (weights[:, None] * points).sum(0) / weights.sum()
    spread = ((points - middle) * weights[:, None]).T @ (points - middle) / weights.sum()
    values, vectors = np.linalg.eigh(spread)
    along = vectors[:, 1] * np.sign(vectors[0, 1])
    sigma = np.sqrt(max(values[0], 0.04) / values[1]) * 0.5
    angle = expected + _half_turn(np.array([np.arctan2(along[1], along[0]) - expected]))[0]
    return LevelSight(float(angle), float(max(sigma, doubt)), HORIZON)


def _open_above(gray: Gray, ends: Floats) -> bool:
    """Whether sky, or at least little, is above a line: less than half of the slopes that are below it."""
    height = gray.shape[0]
    slope = np.abs(cv2.Sobel(gray, cv2.CV_32F, 1, 0, ksize=3))
    above, below = [], []
    for x0, y0, x1, y1 in ends:
        x, y = round((x0 + x1) / 2), round((y0 + y1) / 2)
        left, right = max(0, round(x - abs(x1 - x0) / 2)), round(x + abs(x1 - x0) / 2) + 1
        above.append(slope[max(0, y - height // 8) : max(0, y - 4), left:right].ravel())
        below.append(slope[y + 4 : y + height // 8, left:right].ravel())
    over, under = np.concatenate(above), np.concatenate(below)
    return len(over) > 0 and len(under) > 0 and float(over.mean()) < 0.5 * float(under.mean())


def _collinear(ends: Floats, index: int) -> NDArray[np.intp]:
    """Segments whose ends lie on a segment's line, within a pixel and a half."""
    x0, y0, x1, y1 = ends[index]
    reach = np.hypot(x1 - x0, y1 - y0)
    across = np.array([-(y1 - y0), x1 - x0]) / reach
    off = np.abs((ends.reshape(-1, 2, 2) - (x0, y0)) @ across)
    return np.flatnonzero((off < 1.5).all(1))


def _covered(ends: Floats, width: int) -> float:
    seen = np.zeros(width, np.bool_)
    for x0, _, x1, _ in ends:
        seen[max(0, int(min(x0, x1))) : int(max(x0, x1)) + 1] = True
    return float(seen.mean())


def _uprights(gray: Gray, fine: Gray, ends: Floats, length: Floats, expected: float) -> LevelSight | None:
    height, width = gray.shape
    near = np.flatnonzero((np.abs(_half_turn(_lean(ends) - expected)) < SEARCH) & (length > 0.035 * height))
    near = near[np.argsort(-length[near])[:LONGEST]]
    ends, length = _refined(fine, ends[near], fine.shape[1] / width), length[near]
    if len(ends) < 5:
        return None
    lean = _half_turn(_lean(ends) - expected)
    place = ((ends[:, 0] + ends[:, 2]) / 2 - (width - 1) / 2) / (width / 2)
    grid = np.radians(np.arange(-28, 28.5, 0.5))
    votes = (length[None, :] * np.exp(-(((lean[None, :] - grid[:, None]) / np.radians(1.5)) ** 2))).sum(1)
    roll, bend = float(grid[votes.argmax()]), 0.0
    weights = np.zeros(len(lean))
    for width_deg in (4.0, 3.0, 2.0, 1.2, 1.2, 1.2):
        off = lean - roll - bend * place
        weights = length * np.clip(1 - (off / np.radians(width_deg)) ** 2, 0, None) ** 2
        if (weights > 0).sum() < 5:
            return None
        scale = weights.sum()
        normal = np.array([[scale, (weights * place).sum()], [(weights * place).sum(), (weights * place**2).sum()]])
        normal[1, 1] += scale * (np.radians(0.3) / CONVERGENCE_SPREAD) ** 2
        roll, bend = np.linalg.solve(normal, [(weights * lean).sum(), (weights * place * lean).sum()])
    believed = weights > 0
    if length[believed].sum() < max(0.8 * height, UPRIGHT_SHARE * length.sum()):
        return None  # leaning every way alike: texture, nothing built
    off = lean - roll - bend * place
    variance = float((weights * off**2).sum() / weights.sum()) + np.radians(0.1) ** 2
    independent = weights.sum() ** 2 / (weights**2).sum()
    lever = float(np.linalg.inv(normal)[0, 0] * weights.sum())
    sigma = float(np.sqrt(variance * lever / independent))
    if sigma > np.radians(1):
        return None
    return LevelSight(expected + float(roll), max(sigma, ONE_SIGHT_AT_BEST), UPRIGHTS)


def _lean(ends: Floats) -> Floats:
    """How far segments (N, 4) lean from upright, clockwise."""
    return np.asarray(np.arctan2(-(ends[:, 2] - ends[:, 0]), ends[:, 3] - ends[:, 1]))


def _half_turn(angle: Floats) -> Floats:
    """Angles of undirected lines, within a quarter turn of zero."""
    return np.asarray((angle + np.pi / 2) % np.pi - np.pi / 2)


def joined_levels(
    sights: list[tuple[int, LevelSight]], turns: Floats, cut: NDArray[np.bool_], blind: NDArray[np.bool_]
) -> Levels:
    """The level of every frame (N,) from `sights` (frame index, sight) and `turns` (N - 1,) between frames."""
    count = len(turns) + 1
    if not sights:
        return Levels.unknown(count)
    step = np.where(cut, UNKNOWN, np.where(blind, BLIND_DRIFT, DRIFT_PER_FRAME)) ** 2
    at = np.array([frame for frame, _ in sights], np.intp)
    seen = np.array([sight.angle for _, sight in sights])
    variance = np.array([sight.sigma**2 for _, sight in sights])
    trusted = variance.copy()
    angle, spread = np.zeros(count), np.zeros(count)
    for _ in range(4):
        angle, spread = _smoothed(count, at, seen, trusted, turns, step)
        off = np.abs(seen - angle[at])
        scale = max(1.0, 1.5 * float(np.median(off / np.sqrt(variance))))
        trusted = variance * np.maximum(1.0, off / (2.5 * scale * np.sqrt(variance))) ** 4
    kinds = np.array([sight.kind for _, sight in sights], np.int8)
    nearest = np.abs(np.arange(count)[:, None] - at[None, :]).argmin(1) if count * len(at) < 4e7 else None
    kind = kinds[nearest] if nearest is not None else np.full(count, np.bincount(kinds).argmax(), np.int8)
    return Levels(angle, np.sqrt(spread), np.where(np.sqrt(spread) < np.radians(5), kind, NOTHING).astype(np.int8))


def _smoothed(
    count: int, at: NDArray[np.intp], seen: Floats, variance: Floats, turns: Floats, step: Floats
) -> tuple[Floats, Floats]:
    """Mean and variance (N,) of a scalar walk that moves by `turns` and was seen at some frames."""
    mean, spread = np.zeros(count), np.zeros(count)
    before_mean, before_spread = np.zeros(count), np.zeros(count)
    sight = dict(zip(at.tolist(), zip(seen.tolist(), variance.tolist(), strict=True), strict=True))
    m, v = 0.0, float(UNKNOWN**2)
    for i in range(count):
        if i:
            m, v = m + float(turns[i - 1]), v + float(step[i - 1])
        before_mean[i], before_spread[i] = m, v
        if i in sight:
            angle, noise = sight[i]
            gain = v / (v + noise)
            m, v = m + gain * (angle - m), (1 - gain) * v
        mean[i], spread[i] = m, v
    for i in range(count - 2, -1, -1):
        gain = spread[i] / before_spread[i + 1]
        mean[i] += gain * (mean[i + 1] - before_mean[i + 1])
        spread[i] += gain**2 * (spread[i + 1] - before_spread[i + 1])
    return mean, spread
