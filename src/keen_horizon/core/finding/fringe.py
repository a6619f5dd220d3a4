"""Colours that lie apart, from edges all over a clip.

What blocks tell (`colour_edges`) follows one glass (`core.glass.fringe`), but for three things.

- The scene: coloured things have edges of their own, which move along with the scene while the glass stays. So every
  place of the scene has an offset of its own for each colour, which is eliminated.
- Encoders drop colour that is faint. Where a fringe's colour would stand out by A, A / (A + q) of it is left; q is
  found for each colour, and what is told is what the glass did before.
- Encoders carry colour along with the scene from frame to frame: a fringe is that of where its place was some frames
  before, the `lag`, which is found too.

Solved by Gauss-Newton steps with weights that let what does not fit count little; red and blue are laid back by what
was found, and measured again.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from keen_horizon.core.finding.colour_edges import Blocks
from keen_horizon.core.geometry.robust import tukey
from keen_horizon.core.glass.fringe import Fringe

Floats = NDArray[np.float64]
Points = NDArray[np.complex128]

OF_FULL_HD = 1 / 1101.4  # half-diagonals, a pixel of 1920 x 1080

# s and c of red, s and c of blue, the centre across and down, q of red and of blue (of the coded range), the lag
# (frames): what is usual, and how far it varies. Fitted films of photographs of all three kinds of encoding.
USUAL = np.array([0, 0, 0, 0, 0, 0, 0.0008, 0.0008, 3.0])
VARIES = np.array([0.004, 0.004, 0.004, 0.004, 0.02, 0.02, 0.0012, 0.0012, 4.0])
FIGURES, GLASS = len(USUAL), 6
OWN = 0.13 * OF_FULL_HD  # that the scene's own colours usually lie apart
STEPS, CAUCHY_STEPS = 8, 2
CAUCHY_REACH = 2.4  # spreads
LAID_BACK = 3  # times that colours are laid back and measured again
FEWEST_BLOCKS = 300
REGIONS = 6  # across the frame, that may be wrong together
DOUBTED = 0.5  # of what encoders took
WIDER = 1.5  # than the weights say: so far films of photographs, fitted to nothing, were off
SURE = 0.165 * OF_FULL_HD  # that a colour may be off by at a corner
RINGS, IN_RING = 12, 16  # edges that are told for a plot


@dataclass(frozen=True)
class FoundFringe:
    """A fringe with the standard errors of its figures: s and c of red and of blue, the centre.

    `doubts` is how far red and blue may be off at the worst corner, half-diagonals, `enough` whether the clip tells.
    `edges` are some of the surest for each colour: their radius and how far out it lies there, half-diagonals.
    """

    fringe: Fringe
    errors: tuple[float, ...]
    doubts: tuple[float, float]
    enough: bool
    edges: tuple[Floats, Floats]

    @property
    def worth_undoing(self) -> bool:
        """Whether the clip tells it, or undoing it brings both colours nearer: each is known to half of what it is."""
        shifts = self.fringe.at_corner(1.0)
        return self.enough or all(doubt <= abs(shift) / 2 for doubt, shift in zip(self.doubts, shifts, strict=True))

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "red": [round(float(figure), 6) for figure in self.fringe.red],
            "blue": [round(float(figure), 6) for figure in self.fringe.blue],
            "centre_x": round(self.fringe.centre.real, 5),
            "centre_y": round(self.fringe.centre.imag, 5),
            "errors": [round(float(error), 6) for error in self.errors],
            "doubts": [round(float(doubt), 7) for doubt in self.doubts],
            "enough": self.enough,
            "edges": {name: edges.round(6).tolist() for name, edges in zip(("red", "blue"), self.edges, strict=True)},
        }


NO_EDGES = np.zeros((0, 2))
NOT_TOLD = FoundFringe(Fringe(), (1.0,) * GLASS, (1.0, 1.0), False, (NO_EDGES, NO_EDGES))


def measured_fringe(blocks_behind: Callable[[Fringe], Blocks], aspect: float, sure: float = SURE) -> FoundFringe:
    """The fringe that blocks tell, which `blocks_behind` measures behind what is known already.

    `aspect` is the width of frames over their height; `sure` what may be doubted where the clip tells.
    """
    figures = np.zeros(FIGURES)
    for number in range(LAID_BACK):
        blocks = blocks_behind(_fringe(figures))
        if len(blocks.shift) < FEWEST_BLOCKS:
            return NOT_TOLD
        if number == 1:
            figures[GLASS:] = USUAL[GLASS:]
        fit = _Fit(blocks, figures, encoded=number > 0)
        figures = fit.figures
    covariance = fit.covariance()
    doubts = _doubts(figures, covariance, fit.taken, aspect)
    errors = tuple(float(error) for error in np.sqrt(np.diag(covariance))[:GLASS])
    fringe = _fringe(figures)
    edges = _told_edges(blocks, fringe, 0), _told_edges(blocks, fringe, 1)
    return FoundFringe(fringe, errors, doubts, max(doubts) < sure, edges)


def _fringe(figures: Floats) -> Fringe:
    red, blue, centre = (tuple(float(f) for f in figures[i : i + 2]) for i in (0, 2, 4))
    return Fringe((red[0], red[1]), (blue[0], blue[1]), complex(*centre))


class _Fit:
    """Figures fitted to blocks, the scene's own offsets eliminated; what encoders do is fitted where `encoded`."""

    def __init__(self, blocks: Blocks, figures: Floats, encoded: bool) -> None:
        self.blocks, self.figures, self.encoded = blocks, figures.copy(), encoded
        _, self._group = np.unique(2 * blocks.where.cells + blocks.colour, return_inverse=True)
        count, groups = len(self._group), int(self._group.max()) + 1
        self._of_group = csr_matrix((np.ones(count), (self._group, np.arange(count))), (groups, count))
        self._offsets = np.zeros((groups, 2))
        for number in range(STEPS):
            self._step(number)

    def _model(self) -> tuple[Floats, Floats, Floats]:
        """Where blocks' colours should lie (n, 2), its slopes (n, 2, FIGURES) by the figures, and the share (n,) of it
        that encoders left.
        """
        f, colour, where = self.figures, self.blocks.colour, self.blocks.where
        linear, cubic, loss = f[2 * colour], f[2 * colour + 1], f[GLASS + colour]
        away = where.places - f[8] * where.velocity - complex(f[4], f[5])
        square = np.abs(away) ** 2
        growth = linear + cubic * square
        shift = _pairs(away * growth)
        stands_out = np.sqrt(np.einsum("ni,nij,nj->n", shift, self.blocks.steep, shift)) + 1e-9
        left = stands_out / (stands_out + loss)
        rises = left * (2 - left)  # how fast what is left grows with the shift
        slopes = np.zeros((len(away), 2, FIGURES))
        rows = np.arange(len(away))
        slopes[rows, :, 2 * colour] = _pairs(away) * rises[:, None]
        slopes[rows, :, 2 * colour + 1] = _pairs(away * square) * rises[:, None]
        slopes[:, :, 4:6] = -_by_place(away, growth, cubic) * rises[:, None, None]
        if self.encoded:
            slopes[rows, :, GLASS + colour] = -shift * (stands_out / (stands_out + loss) ** 2)[:, None]
            slopes[:, :, 8] = np.einsum("nij,nj->ni", slopes[:, :, 4:6], _pairs(where.velocity))
        return shift * left[:, None], slopes, left

    def _step(self, number: int) -> None:
        """One Gauss-Newton step of the figures and the offsets."""
        expected, slopes, kept = self._model()
        left = _pairs(self.blocks.shift) - expected
        weights = self._weights(left, number)
        own = np.linalg.inv(self._sums(weights) + np.eye(2) / OWN**2)
        weighted = weights @ slopes
        of_figures, of_left = self._sums(weighted), self._sums(np.einsum("nij,nj->ni", weights, left))
        by_own = own @ of_figures
        self._normal = np.einsum("nia,nib->ab", slopes, weighted) - np.einsum("gia,gib->ab", of_figures, by_own)
        self._normal += np.diag(1 / VARIES**2)
        pull = np.einsum("nia,ni->a", weighted, left) - np.einsum("gia,gi->a", by_own, of_left)
        usual = USUAL if self.encoded else np.zeros(FIGURES)
        step = np.linalg.solve(self._normal, pull + (usual - self.figures) / VARIES**2)
        self.figures = self.figures + step
        self.figures[4:6] = np.clip(self.figures[4:6], -0.3, 0.3)
        self.figures[GLASS:] = np.clip(self.figures[GLASS:], 0, None)
        self._offsets = np.einsum("gij,gj->gi", own, of_left - of_figures @ step)
        left = left - self._offsets[self._group]
        self._scores = np.einsum("nia,nij,nj->na", slopes - by_own[self._group], weights, left)
        self.taken = [self._taken(colour, kept, weights) for colour in range(2)]

    def _weights(self, left: Floats, number: int) -> Floats:
        """What is known of the blocks (n, 2, 2), as far as they fit."""
        off = left - self._offsets[self._group]
        size = np.sqrt(np.einsum("ni,nij,nj->n", off, self.blocks.known, off))
        spread = max(1.0, float(np.median(size)) / 1.177)  # the median length of two normal figures
        trust = tukey(size, spread) if number >= CAUCHY_STEPS else 1 / (1 + (size / (CAUCHY_REACH * spread)) ** 2)
        return np.asarray(self.blocks.known * (trust / spread**2)[:, None, None])

    def _taken(self, colour: int, kept: Floats, weights: Floats) -> float:
        """The share of a colour's fringe that encoders took, where it is told."""
        told = np.where(self.blocks.colour == colour, np.trace(weights, axis1=1, axis2=2), 0)
        return 1 - float(told @ kept / max(told.sum(), 1e-9))

    def _sums(self, values: Floats) -> Floats:
        """Sums over the blocks of every group."""
        flat = self._of_group @ values.reshape(len(values), -1)
        return np.asarray(flat.reshape(-1, *values.shape[1:]))

    def covariance(self) -> Floats:
        """Of the figures: what the weights say, twice, and what places, regions and frames have in common."""
        inverse = np.linalg.inv(self._normal)
        total = 2 * inverse
        places = _pairs(self.blocks.where.places)
        x, y = np.clip((places.T + 1) / 2 * REGIONS, 0, REGIONS - 1).astype(int)
        for group in (self._group, 2 * (REGIONS * x + y) + self.blocks.colour, self.blocks.frame):
            sums = csr_matrix((np.ones(len(group)), (group, np.arange(len(group))))) @ self._scores
            total = total + inverse @ (sums.T @ sums) @ inverse
        return np.asarray(total)


def _pairs(values: Points) -> Floats:
    return np.stack([values.real, values.imag], -1)


def _by_place(away: Points, growth: Floats, cubic: Floats | float) -> Floats:
    """How a shift changes with its place (n, 2, 2)."""
    x, y = away.real, away.imag
    across = 2 * cubic * x * y
    rows = [[growth + 2 * cubic * x**2, across], [across, growth + 2 * cubic * y**2]]
    return np.asarray(np.moveaxis(np.array(rows), -1, 0))


def _doubts(figures: Floats, covariance: Floats, taken: list[float], aspect: float) -> tuple[float, float]:
    """How far red and blue may be off at the worst corner, half-diagonals."""
    x, y = np.array([aspect, 1.0]) / np.hypot(aspect, 1)
    away = np.array([-x - 1j * y, x - 1j * y, x + 1j * y, -x + 1j * y]) - complex(figures[4], figures[5])
    square = np.abs(away) ** 2
    doubts = []
    for colour in range(2):
        linear, cubic = figures[2 * colour : 2 * colour + 2]
        growth = linear + cubic * square
        slopes = np.zeros((4, 2, FIGURES))
        slopes[:, :, 2 * colour] = _pairs(away)
        slopes[:, :, 2 * colour + 1] = _pairs(away * square)
        slopes[:, :, 4:6] = -_by_place(away, growth, cubic)
        spreads = slopes @ covariance @ np.swapaxes(slopes, 1, 2)
        fitted = np.linalg.eigvalsh(spreads).max()
        encoded = DOUBTED * taken[colour] * np.abs(away * growth).max()
        doubts.append(WIDER * float(np.hypot(np.sqrt(fitted), encoded)))
    return doubts[0], doubts[1]


def _told_edges(blocks: Blocks, fringe: Fringe, colour: int) -> Floats:
    """Radii and outward shifts (m, 2) of a colour at its surest edges, as many in every ring where there are any."""
    mine = np.flatnonzero(blocks.colour == colour)
    away = blocks.where.places[mine] - fringe.centre
    radius = np.abs(away)
    outward = away / np.maximum(radius, 1e-9)
    sure = np.einsum("ni,nij,nj->n", _pairs(outward), blocks.known[mine], _pairs(outward))
    shift = (blocks.shift[mine] * outward.conj()).real
    ring = np.clip(radius * RINGS, 0, RINGS).astype(int)
    order = np.lexsort((-sure, ring))
    rank = np.arange(len(order)) - np.searchsorted(ring[order], ring[order])
    chosen = order[rank < IN_RING]
    return np.stack([radius[chosen], shift[chosen]], -1)
