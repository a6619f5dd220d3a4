"""A lens from what is straight in the clip itself, or a refusal that says why.

Long smooth edges of several frames vote for the bend that straightens them, each by the square of its length: what
is straight in the world agrees on one bend, what is curved on none. The longest that agree tell the lens as drawn
straightedges do; how far it moves when lines are drawn again with replacement (Efron 1979) tells how sure it is.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.nowhere import is_nowhere
from keen_horizon.core.geometry.picture import Size, resized, transform
from keen_horizon.core.lens.edges import long_edges
from keen_horizon.core.lens.lens import NO_LENS, Lens
from keen_horizon.core.lens.straightedges import fit_lens, judged, quick_lens

Floats = NDArray[np.float64]
Gray = NDArray[np.uint8]

ANALYSED_WIDTH = 1280
SHORTEST = 0.09  # of the width
POINTS = 12
BENDS = np.linspace(-0.6, 0.3, 46)
AGREES_PX = 0.7  # at ANALYSED_WIDTH
MOST_LINES = 60
ROUNDS = 2
DRAWS = 16
LEAST_LINES = 10
LONG, LEAST_LONG = 0.25, 4
LEAST_SHARE = 0.5
ENOUGH = 0.97
SURE_PX = 2.5  # at 1000 px wide


@dataclass(frozen=True)
class Edge:
    """A smooth edge on a frame, points (P, 2) in display pixels."""

    frame: int
    points: Floats

    @property
    def length(self) -> float:
        """From end to end."""
        return float(np.hypot(*(self.points[-1] - self.points[0])))


@dataclass(frozen=True)
class AutomaticLens:
    """The lens, the edges it was found by, and how sure it is: `spread_px` at 1000 px wide, `confidence` 0 ... 1."""

    lens: Lens
    edges: tuple[Edge, ...]
    spread_px: float
    confidence: float


def picture_edges(gray: Gray, frame: int, display: Size) -> list[Edge]:
    """The long smooth edges of a frame's luma (rows, columns)."""
    rows, columns = gray.shape
    scale = min(1.0, ANALYSED_WIDTH / max(rows, columns))
    small = cv2.resize(gray, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else gray
    analysed = Size(small.shape[1], small.shape[0])
    back = resized(display, analysed)
    found = long_edges(small, SHORTEST * max(small.shape))
    return [Edge(frame, transform(back, _thinned(points))) for points in found]


def automatic_lens(edges: list[Edge], size: Size) -> AutomaticLens:
    """The lens that straightens most of what may be straight. Raises LensError saying why there is none."""
    if sum(edge.length > LONG * size.width for edge in edges) < LEAST_LONG or len(edges) < LEAST_LINES:
        raise LensError(
            "There are too few long edges to tell the lens by. Choose frames with buildings, masts or a horizon, "
            "or draw straightedges."
        )
    chosen = _agreed(edges, size)
    lens = quick_lens(_points(chosen), size)
    for _ in range(ROUNDS):
        agreeing = agreeing_edges(edges, lens, size)
        if len(agreeing) < LEAST_LINES:
            break
        chosen, lens = agreeing, quick_lens(_points(agreeing), size)
    lens = fit_lens(_points(chosen), size, blame=False).lens
    if _votes(edges, NO_LENS, size) > ENOUGH * _votes(edges, lens, size):
        lens = NO_LENS
    chosen = agreeing_edges(edges, lens, size)
    share = sum(e.length for e in chosen) / sum(e.length for e in edges)
    long = sum(edge.length > LONG * size.width for edge in chosen)
    if len(chosen) < LEAST_LINES or long < LEAST_LONG or share < LEAST_SHARE:
        raise LensError(
            f"What may be straight does not agree on a lens: {len(chosen)} edges of {len(edges)} do. "
            "Choose other frames, or draw straightedges."
        )
    spread = _spread(chosen[:MOST_LINES], lens, size)
    if spread > SURE_PX:
        raise LensError(
            f"The edges leave the lens open by {spread:.0f} px at 1000 px wide. Choose frames with long edges "
            "near the borders, or draw straightedges."
        )
    return AutomaticLens(lens, tuple(chosen[:MOST_LINES]), spread, share * (1 - spread / SURE_PX))


def _thinned(points: Floats) -> Floats:
    """POINTS places along an edge, each the mean of those around it."""
    return np.array([part.mean(0) for part in np.array_split(points, POINTS)])


def _agreed(edges: list[Edge], size: Size) -> list[Edge]:
    """The edges that the bend with most votes straightens, the longest first."""
    lines = [edge.points for edge in edges]
    bends = [Lens("division", (float(k),)) for k in BENDS]
    best = max(bends, key=lambda lens: _votes(edges, lens, size))
    left = judged(best, lines, size).residuals
    tolerance = 2 * AGREES_PX * size.width / ANALYSED_WIDTH
    chosen = [edge for edge, off in zip(edges, left, strict=True) if off < tolerance]
    return sorted(chosen or edges, key=lambda edge: -edge.length)


def _votes(edges: list[Edge], lens: Lens, size: Size) -> float:
    """How much a lens straightens: the squares of lengths, of edges as far as they are straight with it."""
    left = np.array(judged(lens, [edge.points for edge in edges], size).residuals)
    weight = np.array([edge.length for edge in edges]) ** 2
    return float((weight * np.exp(-0.5 * (left / (AGREES_PX * size.width / ANALYSED_WIDTH)) ** 2)).sum())


def agreeing_edges(edges: list[Edge], lens: Lens, size: Size) -> list[Edge]:
    """The edges that a lens straightens, the longest first."""
    left = judged(lens, [edge.points for edge in edges], size).residuals
    tolerance = AGREES_PX * size.width / ANALYSED_WIDTH
    chosen = [edge for edge, off in zip(edges, left, strict=True) if off < tolerance]
    return sorted(chosen, key=lambda edge: -edge.length)


def _points(edges: list[Edge]) -> list[Floats]:
    """The points of the longest edges, of those in that order."""
    return [edge.points for edge in edges[:MOST_LINES]]


def _spread(edges: list[Edge], lens: Lens, size: Size) -> float:
    """How far lenses from lines drawn again with replacement put the frame's points, RMS px at 1000 px wide."""
    random = np.random.default_rng(len(edges))
    across, down = (np.linspace(0.05, 0.95, 9) * side for side in (size.width, size.height))
    x, y = np.meshgrid(across, down)
    source = np.stack([x.ravel(), y.ravel()], -1)
    straight = lens.straighten(source, size)
    there = ~is_nowhere(straight)
    seen, straight = source[there], straight[there]
    off = []
    for _ in range(DRAWS):
        drawn = [edges[i].points for i in random.integers(0, len(edges), len(edges))]
        off.append(_apart(quick_lens(drawn, size).bend(straight, size), seen))
    return float(np.median(off)) * 1000 / size.width


def _apart(found: Floats, wanted: Floats) -> float:
    """RMS distance after the best scale round the middle, which straight lines do not tell."""
    centre = wanted.mean(0)
    a, b = found - centre, wanted - centre
    scale = (a * b).sum() / max(1e-9, float((a * a).sum()))
    return float(np.sqrt(((scale * a - b) ** 2).sum(1).mean()))
