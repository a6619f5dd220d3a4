"""Dead edges, from how bright each place of the frame ever became while the scene moved behind it.

Cells of the frame that stay black although they lie at its border are dead. Their rim tells circles and straight lines,
the one that most of it lies on first (RANSAC, Fischler & Bolles 1981); the brightness across it then tells exactly
where, and how softly, by a robust fit of one smooth step to what all places along it show.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates
from scipy.optimize import least_squares

from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.treatment.figures import FIGURES
from keen_horizon.core.treatment.optics import FURTHEST_DEAD, NEAREST_DEAD, SOFTEST

Floats = NDArray[np.float64]
Complex = NDArray[np.complex128]

EVER = 95.0  # per cent of the time, that is taken for the brightest: a flash is not believed
BLACK = 0.03  # of the coded range: brighter is light
BRIGHT = 0.12  # of the coded range, that half the rest of the frame must have reached, or it is too dark to tell
FEWEST_CELLS = 12  # that are dead, or it is noise
TRIES = 400
ON_IT = 1.0  # cells from a curve, that its rim may lie
MOST_CURVES = 5
FEWEST_RIM = 10  # cells of a rim that tell a curve
ENOUGH_RIM = 0.9  # of the rim must lie on what was found
PROBES, FEWEST_PROBES, STEPS = 160, 8, 41  # places along an edge, and across it each
REACHES = (8.0, 16.0, 32.0, 56.0)  # cells, looked at either way, from sharp edges to shades
SHADE_SHARE = 1.2  # of a reach, that a shade may take up, so that its light and its dark side are seen
ROUNDS = 3
STEEPEST = 3.0  # of the light for a half-diagonal: more than fall-off has at an edge
LEAST_INSIDE = 0.02  # of the light, below which a place tells nothing of an edge
OF_A_CELL = 0.25  # that no edge is known better than: cells are means
QUIETEST = 0.3  # of OFF: no film is known better
OFF = 0.03  # of the light a place has, by which a step may miss it
WORST = 0.01  # half-diagonals, that an edge which is told may be off by
SHADED = 1 / 60  # half-diagonals inside an edge's shade, where it may still reach


@dataclass(frozen=True)
class FoundDead:
    """An edge, half of its light gone, and by how much it may be off, half-diagonals."""

    edge: DeadEdge
    doubt: float

    def clear(self, places: NDArray[np.complex128]) -> NDArray[np.bool_]:
        """Whether places, half-diagonals from the frame's middle, lie where the edge shades nothing."""
        return np.asarray(self.edge.moved(-self.edge.softness / 2 - SHADED).room(places) > 0)

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        edge = self.edge
        return {
            "radius": None if edge.radius is None else round(edge.radius, 5),
            "centre_x": round(edge.centre.real, 5),
            "centre_y": round(edge.centre.imag, 5),
            "sides": [
                {"angle_deg": round(float(np.degrees(way) + 180) % 360 - 180, 3), "distance": round(far, 5)}
                for way, far in edge.sides
            ],
            "softness": round(edge.softness, 5),
            "doubt": round(self.doubt, 5),
        }


def ever_bright(cells: NDArray[np.float32]) -> NDArray[np.float32]:
    """How bright cells (T, rows, columns), coded 0 ... 1, became."""
    return np.asarray(np.percentile(cells, EVER, axis=0), np.float32)


def found_dead(bright: NDArray[np.float32], light: NDArray[np.float32]) -> FoundDead | None:
    """The dead edge of a frame whose cells became so `bright`, coded, and had so much `light`, linear; both (rows,
    columns). None where there is none, or none that tells.
    """
    dead = _dead_cells(bright)
    if dead is None:
        return None
    grid = _Grid(*bright.shape)
    rim = grid.places(*np.nonzero(_rim(dead)))
    edge = _shape(rim, grid)
    return None if edge is None else _refined(edge, light.astype(np.float64), grid)


@dataclass(frozen=True)
class _Grid:
    """Cells over a frame; places are half-diagonals from its middle."""

    rows: int
    columns: int

    @property
    def cell(self) -> float:
        return float(2 / np.hypot(self.rows, self.columns))

    def places(self, row: NDArray[Any], column: NDArray[Any]) -> Complex:
        x, y = column - (self.columns - 1) / 2, row - (self.rows - 1) / 2
        return np.asarray((x + 1j * y) * self.cell)

    def cells(self, places: Complex) -> tuple[Floats, Floats]:
        """Row and column of places."""
        return places.imag / self.cell + (self.rows - 1) / 2, places.real / self.cell + (self.columns - 1) / 2

    def inside(self, places: Complex, margin: float = 0.0) -> NDArray[np.bool_]:
        row, column = self.cells(places)
        within = (row >= margin) & (row <= self.rows - 1 - margin)
        return np.asarray(within & (column >= margin) & (column <= self.columns - 1 - margin))


def _dead_cells(bright: NDArray[np.float32]) -> NDArray[np.bool_] | None:
    """Cells that stayed black and reach the border; None where there are none, or all is too dark to tell."""
    black = bright < BLACK
    if black.all() or np.median(bright[~black]) < BRIGHT:
        return None
    _, labels = cv2.connectedComponents(black.astype(np.uint8), connectivity=4)
    border = np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]])
    reaching = np.setdiff1d(np.unique(border), [0])
    dead = np.isin(labels, reaching)
    return dead if dead.sum() >= FEWEST_CELLS else None


def _rim(dead: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Dead cells beside light ones."""
    lit = cv2.dilate((~dead).astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_CROSS, (3, 3)))
    return np.asarray(dead & (lit > 0))


Curve = tuple[complex, float]  # a circle's centre and radius, or a line's outward normal and distance


def _shape(rim: Complex, grid: _Grid) -> DeadEdge | None:
    """A circle and straight lines that most of the rim lies on, the one with most of it first."""
    random = np.random.default_rng(1)
    left, radius, centre, sides = rim, None, 0j, []
    for _ in range(MOST_CURVES):
        if len(left) < max(FEWEST_RIM, (1 - ENOUGH_RIM) * len(rim)):
            break
        line, on_line = _best_line(left, random, grid)
        circle, on_circle = (
            _best_circle(left, random, grid) if radius is None else ((0j, 0.0), np.zeros(len(left), bool))
        )
        if max(on_line.sum(), on_circle.sum()) < FEWEST_RIM:
            break
        # a straight line is a circle, too: the plainer shape, unless the other explains clearly more
        if on_circle.sum() > 1.1 * on_line.sum():
            centre, radius = circle
            left = left[~on_circle]
        else:
            sides.append((float(np.angle(line[0])), line[1]))
            left = left[~on_line]
    told = len(left) <= (1 - ENOUGH_RIM) * len(rim) + FEWEST_RIM
    if not told or (radius is None and not sides):
        return None
    return DeadEdge(radius, centre, tuple(sides))


def _best_line(rim: Complex, random: np.random.Generator, grid: _Grid) -> tuple[Curve, NDArray[np.bool_]]:
    """The line that most of the rim lies on: its outward normal, its distance."""
    best, on_best = (1 + 0j, 0.0), np.zeros(len(rim), bool)
    for _ in range(TRIES):
        first, second = rim[random.choice(len(rim), 2, replace=False)]
        if abs(second - first) < 3 * grid.cell:
            continue
        normal = 1j * (second - first) / abs(second - first)
        distance = float((np.conj(normal) * first).real)
        normal, distance = (normal, distance) if distance >= 0 else (-normal, -distance)
        on = np.abs((np.conj(normal) * rim).real - distance) < ON_IT * grid.cell
        if on.sum() > on_best.sum():
            best, on_best = (complex(normal), distance), on
    return best, on_best


def _best_circle(rim: Complex, random: np.random.Generator, grid: _Grid) -> tuple[Curve, NDArray[np.bool_]]:
    """The circle, with light inside, that most of the rim lies on: its centre, its radius."""
    best, on_best = (0j, 0.0), np.zeros(len(rim), bool)
    if len(rim) < 3:
        return best, on_best
    for _ in range(TRIES):
        circle = _circle_through(rim[random.choice(len(rim), 3, replace=False)])
        if circle is None or not _plausible(*circle):
            continue
        on = np.abs(np.abs(rim - circle[0]) - circle[1]) < ON_IT * grid.cell
        if on.sum() > on_best.sum():
            best, on_best = circle, on
    return best, on_best


def _plausible(centre: complex, radius: float) -> bool:
    """Whether it is a circle round the middle that a treatment takes."""
    near = max(abs(centre.real), abs(centre.imag)) < FIGURES["centre_x"].high
    return near and max(NEAREST_DEAD, abs(centre)) < radius < FURTHEST_DEAD


def _sound(edge: DeadEdge) -> bool:
    """Whether a treatment takes an edge."""
    sides = all(NEAREST_DEAD < far < FURTHEST_DEAD for _, far in edge.sides)
    circle = edge.radius is None or _plausible(edge.centre, edge.radius)
    return sides and circle and edge.softness < SOFTEST and edge.largest_circle > NEAREST_DEAD


def _circle_through(points: Complex) -> tuple[complex, float] | None:
    """Centre and radius of the circle through three points."""
    first, second, third = points
    w = (third - first) / (second - first) if second != first else 0j
    if abs(w.imag) < 1e-6:
        return None
    middle = (second - first) * (w - abs(w) ** 2) / (2j * w.imag) + first
    return complex(middle), float(abs(first - middle))


def _refined(edge: DeadEdge, light: Floats, grid: _Grid) -> FoundDead | None:
    """The edge with its place and softness fitted to the light across it, looked at as far as the shade reaches."""
    for reach in REACHES:
        found = _fitted(edge, light, grid, reach)
        if found is not None and found.edge.softness < SHADE_SHARE * reach * grid.cell:
            break
    else:  # its light side was never seen
        return None
    if found.doubt > WORST or not _sound(found.edge):
        return None
    # a cell is a mean: it softens what is sharp by as much as a step of a cell and a half would
    softness = float(np.sqrt(max(0.0, found.edge.softness**2 - (1.5 * grid.cell) ** 2)))
    return FoundDead(replace(found.edge, softness=softness), found.doubt)


def _fitted(edge: DeadEdge, light: Floats, grid: _Grid, reach: float) -> FoundDead | None:
    """The edge as places up to `reach` cells beside it tell it; None where too few do."""
    figures = np.append(0.0, _figures(edge, reach * grid.cell / 4))
    for _ in range(ROUNDS):
        found = _probed(_edge_of(figures[1:], edge), light, grid, reach)
        if found is None:
            return None
        probes = found

        def missed(tried: Floats, probes: _Probes = probes) -> Floats:
            there = _edge_of(tried[1:], edge)
            # the fall-off goes on inside the edge: a slope that all places share
            expected = there.light(probes.places) * (1 + tried[0] * there.room(probes.places))
            return np.asarray((probes.shares(probes.light) - probes.shares(expected)) / OFF).ravel()

        most = reach * grid.cell
        low, high = figures - most, figures + most
        low[:2], high[:2] = (-STEEPEST, 0.0), (STEEPEST, 2 * most)
        start = np.clip(figures, low + 1e-9, high - 1e-9)
        fit = least_squares(missed, start, loss="soft_l1", x_scale=grid.cell, bounds=(low, high))
        figures = fit.x
    found_edge = _edge_of(figures[1:], edge)
    on_it = probes.places[:, STEPS // 2]

    def moved(change: Floats) -> Floats:
        return _edge_of((figures + change)[1:], edge).room(on_it) - found_edge.room(on_it)

    return FoundDead(found_edge, max(OF_A_CELL * grid.cell, _doubt(fit.jac, fit.fun, on_it, moved)))


def _figures(edge: DeadEdge, softness: float) -> Floats:
    circle = [] if edge.radius is None else [edge.radius, edge.centre.real, edge.centre.imag]
    return np.array([softness, *circle, *(figure for side in edge.sides for figure in side)])


def _edge_of(figures: Floats, like: DeadEdge) -> DeadEdge:
    softness, rest = float(figures[0]), [float(figure) for figure in figures[1:]]
    radius, centre = None, 0j
    if like.radius is not None:
        radius, centre, rest = rest[0], complex(rest[1], rest[2]), rest[3:]
    return DeadEdge(radius, centre, tuple(zip(rest[::2], rest[1::2], strict=True)), softness)


@dataclass(frozen=True)
class _Probes:
    """Places (P, k) across an edge, from outside it inwards, and the light there."""

    places: Complex
    light: Floats

    def shares(self, values: Floats) -> Floats:
        """Values (P, k) as shares of what the innermost quarter of each probe has."""
        inner = values[:, -(values.shape[1] // 4) :].mean(1)
        return np.asarray(values / np.maximum(inner, 1e-6)[:, None])


def _probed(edge: DeadEdge, light: Floats, grid: _Grid, reach: float) -> _Probes | None:
    """Probes up to `reach` cells either way of the edge where it lies in the frame; None of too few."""
    away = np.linspace(-reach, reach, STEPS) * grid.cell
    taken = []
    for curve in edge.curves():
        on_it = curve[(np.abs(edge.room(curve)) < 1e-6) & grid.inside(curve, 1.0)]
        taken.append(on_it[:, None] + _inwards(edge, on_it, grid)[:, None] * away)
    places = np.concatenate(taken)
    if len(places) < FEWEST_PROBES:
        return None
    places = places[np.linspace(0, len(places) - 1, min(PROBES, len(places))).astype(int)]
    row, column = grid.cells(places)
    probes = _Probes(places, map_coordinates(light, [row, column], order=1, mode="nearest"))
    inner = probes.light[:, -(STEPS // 4) :].mean(1)
    told = (inner > LEAST_INSIDE) & grid.inside(places[:, STEPS // 2 :]).all(1)
    if told.sum() < FEWEST_PROBES:
        return None
    return _Probes(places[told], probes.light[told])


def _inwards(edge: DeadEdge, places: Complex, grid: _Grid) -> Complex:
    """Unit normals at places of the edge, towards the light: the slope of the room inside it."""
    step = 0.1 * grid.cell
    across = edge.room(places + step) - edge.room(places - step)
    down = edge.room(places + 1j * step) - edge.room(places - 1j * step)
    slope = across + 1j * down
    return np.asarray(slope / np.maximum(np.abs(slope), 1e-12))


def _doubt(jacobian: Floats, missed: Floats, places: Complex, moved: Callable[[Floats], Floats]) -> float:
    """How far the edge may be off, half-diagonals, at the worst of places (P,): twice the standard error.

    Probes, not their samples, are independent; `moved` tells how much more room a change of the figures gives places.
    """
    spread = max(QUIETEST, 1.4826 * float(np.median(np.abs(missed))))
    covariance = np.linalg.pinv(jacobian.T @ jacobian) * spread**2 * len(missed) / len(places)
    step = 1e-5
    slopes = np.stack([moved(step * change) / step for change in np.eye(len(covariance))], -1)
    return float(2 * np.sqrt(np.einsum("pi,ij,pj->p", slopes, covariance, slopes).max()))
