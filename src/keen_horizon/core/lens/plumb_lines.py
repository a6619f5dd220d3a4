"""The search for a lens that makes drawn lines straight (the plumb-line method of photogrammetry, Brown 1971).

A straight line's rays (x, y, D(r)) lie in a plane n through the camera (Claus & Fitzgibbon 2005). For a lens,
every line's best plane is an eigenvector; what is left is measured as the Sampson distance in source pixels,
so shrinking the picture gains nothing, and minimised over the lens by Levenberg and Marquardt's method.
Gaussian priors keep few lines from giving wild lenses; scores are Schwarz's (1978), which ask more of more figures.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.cameras.families import FAMILIES
from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens

Floats = NDArray[np.float64]
Candidate = tuple[str, int]  # a family and how many of its coefficients are looked for

CLICK_PX = 0.7  # how exactly a point is set, at 1920 wide
CENTRE_SPREAD = 0.015
CENTRE_LINES = 4  # from so many lines on the centre is looked for
LINES_FOR = (1, 3, 7)  # lines from which one, two and three figures are looked for
STEPS = 12
NUDGE = 1e-5
POWERS = 3  # squarings: ratios of eigenvalues to the eighth power
DAMPINGS = np.array([0.1, 1.0, 30.0, 1000.0])
ONE_SIDE = np.array([0.54, 0.73, 0.42])  # planes are told apart from their own backs by any direction
LEAST_FOLD = 1.05  # half-diagonals: no lens but a fisheye folds over within its own picture
DISAGREES = 3.0


@dataclass(frozen=True)
class Solved:
    """`parameters` are coefficients, then the centre; `errors` (L, P) px."""

    family: str
    count: int
    parameters: Floats
    errors: Floats
    score: float

    @property
    def eccentric(self) -> float:
        """How far the centre lies from the picture's, in standard deviations of what is usual."""
        return float(np.hypot(*self.parameters[-2:])) / CENTRE_SPREAD


@dataclass
class _Search:
    """Where the search for a candidate's lens by some of the `lines` stands: of its parameters the `free` ones move."""

    candidate: Candidate
    best: Floats
    free: NDArray[np.intp]
    lines: NDArray[np.bool_]
    errors: Floats = field(default_factory=lambda: np.zeros(0))
    cost: float = np.inf
    damping: float = 1e-3

    @cached_property
    def spread(self) -> Floats:
        """The prior's standard deviations."""
        family, count = self.candidate
        return np.array([*FAMILIES[family].spreads[:count], CENTRE_SPREAD, CENTRE_SPREAD])


def _trials(family: str, count: int) -> Floats:
    """Parameters (B, count + 2) to begin with."""
    if not count:
        return np.zeros((1, 2))
    trials = np.zeros((5, count + 2))
    trials[:, 0] = np.linspace(0.05, 2.4, 5) if FAMILIES[family].angular else np.linspace(-0.5, 0.3, 5)
    return trials


def _rays(family: str, count: int, parameters: Floats, points: Floats) -> tuple[Floats, Floats]:
    """The points' rays (B, L, P, 3), and how fast their depth rises, over the radius, (B, L, P)."""
    kind = FAMILIES[family]
    offset = points[None] - parameters[:, None, None, -2:]
    radius = np.hypot(offset[..., 0], offset[..., 1])
    depth, slope = np.ones_like(radius), np.zeros_like(radius)
    if count:
        k = parameters[:, :count].T[..., None, None]
        both = kind.depth(np.stack([radius, radius + 1e-4]), k[:, None])
        depth, slope = both[0], (both[1] - both[0]) / 1e-4 / np.maximum(radius, 1e-6)
    return np.concatenate([offset, depth[..., None]], -1), slope


def _least_axis(moments: Floats) -> Floats:
    """The eigenvector (..., 3) of the smallest eigenvalue of symmetric matrices (..., 3, 3) that are not negative.

    The adjugate has the same eigenvectors and the products of the other two eigenvalues; its powers leave that one.
    """
    a, b, c = moments[..., 0, 0], moments[..., 0, 1], moments[..., 0, 2]
    d, e, f = moments[..., 1, 1], moments[..., 1, 2], moments[..., 2, 2]
    rows = [d * f - e * e, c * e - b * f, b * e - c * d, a * f - c * c, b * c - a * e, a * d - b * b]
    power = np.stack([rows[i] for i in (0, 1, 2, 1, 3, 4, 2, 4, 5)], -1).reshape(moments.shape)
    for _ in range(POWERS):
        power = power / np.maximum(np.abs(power).max((-2, -1), keepdims=True), 1e-300)
        power = power @ power
    longest = np.argmax(np.diagonal(power, axis1=-2, axis2=-1), -1)
    axis = np.take_along_axis(power, longest[..., None, None], -1)[..., 0]
    return np.asarray(axis / np.maximum(np.sqrt((axis * axis).sum(-1, keepdims=True)), 1e-300))


class LineProblem:
    def __init__(self, lines: list[Floats], size: Size, squeeze: float, roughness: float = 1.0) -> None:
        if not lines or any(len(line) < 3 for line in lines):
            raise LensError("A straightedge needs three points or more along something straight.")
        most = max(len(line) for line in lines)
        self.half = size.half_diagonal
        self.click = CLICK_PX * size.width / 1920
        self.noise = self.click * roughness
        self.squeeze = squeeze
        self.there = np.array([np.arange(most) < len(line) for line in lines])
        middle = np.array([size.centre.real, size.centre.imag])
        placed = [np.concatenate([line, np.repeat(line[-1:], most - len(line), 0)]) - middle for line in lines]
        self.points = np.stack(placed) / self.half / (squeeze, 1.0)
        self.total = int(self.there.sum())
        self.all = np.ones(len(lines), np.bool_)

    def affords(self, count: int) -> bool:
        """Whether there are lines enough for so many coefficients."""
        return bool(count <= np.searchsorted(LINES_FOR, len(self.points), "right"))

    def solve(self, candidates: list[Candidate], starts: dict[Candidate, Floats] | None = None) -> list[Solved]:
        """The best lens of each candidate, centred.

        `starts` has parameters from a like problem; without, several are tried.
        """
        starts = starts or {}
        searches = [
            _Search(
                candidate, starts.get(candidate, np.zeros(candidate[1] + 2)).copy(), np.arange(candidate[1]), self.all
            )
            for candidate in candidates
        ]
        new = [search for search in searches if search.candidate not in starts]
        trials = [_trials(*search.candidate) for search in new]
        for search, places, errors in zip(new, trials, self._errors(new, trials) if new else [], strict=True):
            search.best = places[int(np.argmin((errors**2).sum((1, 2))))].copy()
        return self._refined(searches)

    def centred(self, solved: list[Solved]) -> list[Solved]:
        """The same with the centre free, where the lines can tell it."""
        if len(self.points) < CENTRE_LINES:
            return solved
        searches = [
            _Search((s.family, s.count), s.parameters.copy(), np.arange(s.count + 2 if s.count else 0), self.all)
            for s in solved
        ]
        better = self._refined(searches)
        return [b if (b.errors**2).sum() < (s.errors**2).sum() else s for b, s in zip(better, solved, strict=True)]

    def _refined(self, searches: list[_Search]) -> list[Solved]:
        """All searches step by step together: what they share is computed for all at once."""
        for search, errors in zip(searches, self._errors(searches, [s.best[None] for s in searches]), strict=True):
            search.errors = errors[0]
            search.cost = self._cost(search.errors, search.best, search.spread)
        active = [search for search in searches if len(search.free)]
        for _ in range(STEPS):
            if not active:
                break
            nudged = [s.best + NUDGE * np.eye(len(s.best))[s.free] for s in active]
            moved = self._errors(active, nudged)
            trials = [self._trials_of(search, errors) for search, errors in zip(active, moved, strict=True)]
            tried = self._errors(active, trials)
            active = [
                search for search, places, errors in zip(active, trials, tried, strict=True)
                if self._stepped(search, places, errors)
            ]  # fmt: skip
        return [self._ended(search) for search in searches]

    def _trials_of(self, search: _Search, moved: Floats) -> Floats:
        """Where a search may go from here, by how strongly it is damped."""
        spread = search.spread[search.free]
        slopes = ((moved - search.errors) / NUDGE / self.noise).reshape(len(search.free), -1)
        normal = slopes @ slopes.T + np.diag(spread**-2.0)
        gradient = slopes @ (search.errors / self.noise).ravel() + search.best[search.free] / spread**2
        heavier = search.damping * DAMPINGS
        damped = normal + heavier[:, None, None] * np.diag(np.diag(normal))
        trials = np.repeat(search.best[None], len(DAMPINGS), 0)
        trials[:, search.free] += np.linalg.solve(damped, np.repeat(-gradient[None, :, None], len(DAMPINGS), 0))[..., 0]
        return trials

    def _stepped(self, search: _Search, trials: Floats, tried: Floats) -> bool:
        """Take the best of the trials; whether it is worth going on."""
        costs = [self._cost(errors, place, search.spread) for errors, place in zip(tried, trials, strict=True)]
        at = int(np.argmin(costs))
        if not costs[at] < search.cost:
            return False
        gain = search.cost - costs[at]
        search.best, search.errors, search.cost = trials[at], tried[at], costs[at]
        search.damping *= float(DAMPINGS[at])
        return bool(gain >= 1e-3 * max(1.0, search.cost * 1e-2))

    def _ended(self, search: _Search) -> Solved:
        family, count = search.candidate
        score = search.cost + count * float(np.log(max(self.total, 2)))
        kind = FAMILIES[family]
        if count and not kind.angular and kind.fold(search.best[:count]) < LEAST_FOLD:
            score = np.inf
        return Solved(family, count, search.best, search.errors, score)

    def _cost(self, errors: Floats, parameters: Floats, spread: Floats) -> float:
        value = float((errors**2).sum() / self.noise**2 + ((parameters / spread) ** 2).sum())
        return value if np.isfinite(value) else np.inf

    def _errors(self, searches: list[_Search], parameters: list[Floats], everywhere: bool = False) -> list[Floats]:
        """Signed distances (B, L, P), px of the source, of points from their straight lines, for B lenses a search.

        They are 0 on lines that a search leaves out, unless wanted `everywhere`.
        """
        counts = [len(lenses) for lenses in parameters]
        parts = [_rays(*s.candidate, lenses, self.points) for s, lenses in zip(searches, parameters, strict=True)]
        used = np.ones((len(searches), len(self.points)), np.bool_)
        if not everywhere:
            used = np.array([search.lines for search in searches])
        there = np.repeat(used[:, :, None] & self.there, counts, 0)
        rays, slope = (np.concatenate([part[i] for part in parts]) for i in (0, 1))
        offset = rays[..., :2]
        gradient = np.ones(slope.shape)
        normal = np.zeros((*slope.shape[:2], 3))
        for _ in range(2):
            weighted = rays * (there / gradient**2)[..., None]
            moments = np.swapaxes(weighted, -1, -2) @ rays
            if not np.isfinite(moments).all():
                moments = np.nan_to_num(moments, nan=1e9, posinf=1e9, neginf=-1e9)
            normal = _least_axis(moments)
            normal = normal * np.where(normal @ ONE_SIDE < 0, -1.0, 1.0)[..., None]
            across = normal[:, :, None, :2] + (normal[:, :, None, 2] * slope)[..., None] * offset
            gradient = np.maximum(np.hypot(across[..., 0] / self.squeeze, across[..., 1]), 1e-9)
        off = (rays @ normal[..., None])[..., 0] / gradient
        errors = np.where(there, off * self.half, 0.0)
        return np.split(errors, np.cumsum(counts)[:-1])

    def given(self, lens: Lens) -> Solved:
        """A lens as if it had been solved for."""
        search = self._search_at(lens)
        errors = self._errors([search], [search.best[None]])[0][0]
        return Solved(lens.family, len(lens.k), search.best, errors, 0.0)

    def slopes(self, lens: Lens) -> Floats:
        """How the points' distances change, px, with a lens's coefficients and centre (K + 2, L, P)."""
        search = self._search_at(lens)
        nudged = np.concatenate([search.best[None], search.best + NUDGE * np.eye(len(search.best))])
        errors = self._errors([search], [nudged])[0]
        return np.asarray((errors[1:] - errors[0]) / NUDGE)

    def covariance(self, lens: Lens) -> Floats:
        """How uncertain the coefficients and centre (K + 2, K + 2) of a lens are that the lines told."""
        slopes = self.slopes(lens).reshape(len(lens.k) + 2, -1) / self.noise
        return np.asarray(np.linalg.inv(slopes @ slopes.T + np.diag(self._search_at(lens).spread ** -2.0)))

    def _search_at(self, lens: Lens) -> _Search:
        """A search that stands at a lens and moves nothing."""
        parameters = np.r_[lens.k, lens.centre.real / self.squeeze, lens.centre.imag]
        return _Search((lens.family, len(lens.k)), parameters, np.arange(0), self.all)

    def lens(self, solved: Solved) -> Lens:
        """What was solved for."""
        centre = complex(solved.parameters[-2] * self.squeeze, solved.parameters[-1])
        return Lens(solved.family, tuple(float(k) for k in solved.parameters[:-2]), centre, self.squeeze)

    def per_line(self, solved: Solved) -> tuple[float, ...]:
        """Root mean square distance of each line's points, px."""
        return tuple(float(v) for v in np.sqrt((solved.errors**2).sum(1) / self.there.sum(1)))

    def ratio(self, solved: Solved) -> float:
        """What is left over the noise of setting points."""
        free = self.total - 2 * len(self.points) - len(solved.parameters) + 2
        return float(np.sqrt((solved.errors**2).sum() / max(1, free)) / self.click)

    def odd_one(self, solved: Solved) -> int | None:
        """The line that the others, without it, do not straighten while they do each other."""
        count = len(self.points)
        if count < 4 or not solved.count:
            return None
        others = ~np.eye(count, dtype=np.bool_)
        start = np.array([*solved.parameters[:-2], 0.0, 0.0])
        searches = [_Search((solved.family, solved.count), start, np.arange(solved.count), lines) for lines in others]
        left_out = self._refined(searches)
        seen = self._errors(searches, [found.parameters[None] for found in left_out], everywhere=True)
        left_out = [replace(found, errors=errors[0]) for found, errors in zip(left_out, seen, strict=True)]
        own = np.array([self.per_line(s)[i] for i, s in enumerate(left_out)])
        rest = np.array(
            [np.sqrt((s.errors[k] ** 2).sum() / self.there[k].sum()) for s, k in zip(left_out, others, strict=True)]
        )
        worst = int(np.argmax(own / np.maximum(rest, self.click / 2)))
        return worst if own[worst] > DISAGREES * max(rest[worst], self.click) else None
