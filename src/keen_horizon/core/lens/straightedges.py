"""A lens from straightedges: points drawn along things that are straight in the world.

A straight line's rays (x, y, D(r)) lie in a plane n through the camera (Claus & Fitzgibbon 2005). For a lens,
every line's best plane is an eigenvector; what is left is measured as the Sampson distance in source pixels,
so shrinking the picture gains nothing, and minimised over the lens by Levenberg and Marquardt's method.
Gaussian priors keep few lines from giving wild lenses; the family is chosen by the Bayesian information
criterion (Schwarz 1978), which asks more of a family with more figures.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.families import FAMILIES, Family
from keen_horizon.core.lens.lens import Lens

Floats = NDArray[np.float64]

CLICK_PX = 0.7  # how exactly a point is set, at 1920 wide
CENTRE_SPREAD = 0.015
CENTRE_LINES = 4  # from so many lines on the centre is looked for
LINES_FOR = (1, 3, 7)  # lines from which one, two and three figures are looked for
CANDIDATES = (
    ("division", 1), ("division", 2), ("division", 3), ("equidistant", 1), ("equisolid", 1),
    ("polynomial", 2), ("inverse", 2),
)  # fmt: skip
STEPS = 12
ONE_SIDE = np.array([0.54, 0.73, 0.42])  # planes are told apart from their own backs by any direction
LEAST_FOLD = 1.05  # half-diagonals: no lens but a fisheye folds over within its own picture
DISAGREES = 3.0
CANNOT_FIT = 2.0
ROUGH = 1.3
MOST_BLAMED = 12  # lines among which one that disagrees is looked for, each time leaving one out


@dataclass(frozen=True)
class LensFit:
    """A lens and how well lines are straight with it.

    `residuals` and `bends` are px of the source, one figure a line: what is left, and how far it was bent. `ratio`
    is the residual over the noise of setting points: about 1 when the lens is right. `odd` is a line that
    disagrees with the rest, if one does; `better` a family that would fit where this one cannot.
    """

    lens: Lens
    residuals: tuple[float, ...]
    bends: tuple[float, ...]
    ratio: float
    odd: int | None
    better: str | None


def fit_lens(
    lines: list[Floats], size: Size, family: str | None = None, squeeze: float = 1.0, blame: bool = True
) -> LensFit:
    """The lens that straightens `lines`, each (P, 2) with P >= 3, in display pixels.

    `family` fixes the family; `blame` looks for a line that disagrees. Never leaves lines less straight, all
    in all, than they are. Raises LensError.
    """
    problem = _Problem(lines, size, squeeze)
    plain, best, chosen = _chosen(problem, family)
    ratio = problem.ratio(chosen)
    if ratio > ROUGH:  # points set so roughly, or on what is not quite straight, tell less than they should
        problem = _Problem(lines, size, squeeze, ratio)
        plain, best, chosen = _chosen(problem, family)
        ratio = problem.ratio(chosen)
    chosen = problem.centred(chosen)
    odd = problem.odd_one(chosen) if blame and len(lines) <= MOST_BLAMED and ratio > ROUGH else None
    fits_better = chosen.family != best.family and problem.ratio(best) < ratio / 1.5
    better = best.family if ratio > CANNOT_FIT and fits_better else None
    return LensFit(problem.lens(chosen), problem.per_line(chosen), problem.per_line(plain), ratio, odd, better)


def _chosen(problem: _Problem, family: str | None) -> tuple[_Solved, _Solved, _Solved]:
    """No lens at all, the best one of any family, and the best one of the family asked for."""
    plain = problem.solve("division", 0)
    found = [problem.solve(name, count) for name, count in CANDIDATES if problem.affords(count)]
    best = min([plain, *found], key=lambda s: s.score)
    if family is None:
        return plain, best, best
    own = [problem.solve(family, n) for n in range(len(FAMILIES[family].names) + 1) if problem.affords(n)]
    return plain, best, min(own, key=lambda s: s.score)


def quick_lens(lines: list[Floats], size: Size) -> Lens:
    """A division lens of two coefficients, centred, without choosing: for many tries. Raises LensError."""
    problem = _Problem(lines, size, 1.0)
    return problem.lens(problem.solve("division", 2))


def judged(lens: Lens, lines: list[Floats], size: Size) -> LensFit:
    """How straight lines are with a lens that is given."""
    problem = _Problem(lines, size, lens.squeeze)
    given = problem.given(lens)
    plain = problem.solve("division", 0)
    return LensFit(lens, problem.per_line(given), problem.per_line(plain), problem.ratio(given), None, None)


@dataclass(frozen=True)
class _Solved:
    """`parameters` are coefficients, then the centre; `errors` (L, P) px."""

    family: str
    count: int
    parameters: Floats
    errors: Floats
    score: float


class _Problem:
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

    def affords(self, count: int) -> bool:
        """Whether there are lines enough for so many coefficients."""
        return bool(count <= np.searchsorted(LINES_FOR, len(self.points), "right"))

    def solve(self, family: str, count: int, keep: NDArray[np.bool_] | None = None) -> _Solved:
        """The best lens of a family with so many coefficients, centred, on all lines or those to keep."""
        kind = FAMILIES[family]
        start = np.zeros(count + 2)
        if count:
            trials = np.zeros((5, count + 2))
            trials[:, 0] = np.linspace(0.05, 2.4, 5) if kind.angular else np.linspace(-0.5, 0.3, 5)
            tried = self._errors(kind, count, trials, keep)
            start = trials[int(np.argmin((tried**2).sum((1, 2))))]
        return self._refined(family, count, start, np.arange(count), keep)

    def centred(self, solved: _Solved) -> _Solved:
        """The same with the centre free, where the lines can tell it."""
        if not solved.count or len(self.points) < CENTRE_LINES:
            return solved
        free = np.arange(solved.count + 2)
        better = self._refined(solved.family, solved.count, solved.parameters, free, None)
        return better if (better.errors**2).sum() < (solved.errors**2).sum() else solved

    def _refined(
        self, family: str, count: int, start: Floats, free: NDArray[np.intp], keep: NDArray[np.bool_] | None
    ) -> _Solved:
        kind = FAMILIES[family]
        spread = np.r_[kind.spreads[:count], CENTRE_SPREAD, CENTRE_SPREAD]
        best, damping = start.copy(), 1e-3
        errors = self._errors(kind, count, best[None], keep)[0]
        cost = self._cost(errors, best, spread)
        step = 1e-5
        for _ in range(STEPS if len(free) else 0):
            nudged = best + step * np.eye(len(best))[free]
            slopes = ((self._errors(kind, count, nudged, keep) - errors) / step / self.noise).reshape(len(free), -1)
            prior = np.diag(spread[free] ** -2.0)
            normal = slopes @ slopes.T + prior
            gradient = slopes @ (errors / self.noise).ravel() + best[free] / spread[free] ** 2
            dampings = damping * np.array([0.1, 1.0, 30.0, 1000.0])
            moves = [np.linalg.solve(normal + d * np.diag(np.diag(normal)), -gradient) for d in dampings]
            trials = np.repeat(best[None], len(moves), 0)
            trials[:, free] += moves
            tried = self._errors(kind, count, trials, keep)
            costs = [self._cost(e, t, spread) for e, t in zip(tried, trials, strict=True)]
            at = int(np.argmin(costs))
            if not costs[at] < cost:
                break
            gain = cost - costs[at]
            best, errors, cost, damping = trials[at], tried[at], costs[at], float(dampings[at])
            if gain < 1e-3 * max(1.0, cost * 1e-2):
                break
        if keep is not None:
            errors = self._errors(kind, count, best[None], None)[0]
        score = cost + count * float(np.log(max(self.total, 2)))
        if count and not kind.angular and kind.fold(best[:count]) < LEAST_FOLD:
            score = np.inf
        return _Solved(family, count, best, errors, score)

    def _cost(self, errors: Floats, parameters: Floats, spread: Floats) -> float:
        value = float((errors**2).sum() / self.noise**2 + ((parameters / spread) ** 2).sum())
        return value if np.isfinite(value) else np.inf

    def _errors(self, kind: Family, count: int, parameters: Floats, keep: NDArray[np.bool_] | None) -> Floats:
        """Signed distances (B, L, P), px of the source, of the points from their straight lines, for B lenses."""
        points, there = self.points, self.there
        if keep is not None:
            points, there = points[keep], there[keep]
        batch = len(parameters)
        offset = points[None] - parameters[:, None, None, -2:]
        radius = np.hypot(offset[..., 0], offset[..., 1])
        depth, slope = np.ones_like(radius), np.zeros_like(radius)
        if count:
            k = parameters[:, :count].T[..., None, None]
            depth = kind.depth(radius, k)
            slope = (kind.depth(radius + 1e-4, k) - depth) / 1e-4 / np.maximum(radius, 1e-6)
        rays = np.concatenate([offset, depth[..., None]], -1)
        gradient = np.ones((batch, *there.shape))
        normal = np.zeros((batch, len(points), 3))
        for _ in range(2):
            weighted = rays * (there / gradient**2)[..., None]
            moments = np.swapaxes(weighted, -1, -2) @ rays
            if not np.isfinite(moments).all():
                moments = np.nan_to_num(moments, nan=1e9, posinf=1e9, neginf=-1e9)
            normal = np.linalg.eigh(moments)[1][..., 0]
            normal = normal * np.where(normal @ ONE_SIDE < 0, -1.0, 1.0)[..., None]
            across = normal[:, :, None, :2] + (normal[:, :, None, 2] * slope)[..., None] * offset
            gradient = np.maximum(np.hypot(across[..., 0] / self.squeeze, across[..., 1]), 1e-9)
        off = (rays @ normal[..., None])[..., 0] / gradient
        return np.asarray(np.where(there, off * self.half, 0.0))

    def given(self, lens: Lens) -> _Solved:
        """A lens as if it had been solved for."""
        parameters = np.r_[lens.k, lens.centre.real / self.squeeze, lens.centre.imag]
        errors = self._errors(lens.kind, len(lens.k), parameters[None], None)[0]
        return _Solved(lens.family, len(lens.k), parameters, errors, 0.0)

    def lens(self, solved: _Solved) -> Lens:
        """What was solved for."""
        centre = complex(solved.parameters[-2] * self.squeeze, solved.parameters[-1])
        return Lens(solved.family, tuple(float(k) for k in solved.parameters[:-2]), centre, self.squeeze)

    def per_line(self, solved: _Solved) -> tuple[float, ...]:
        """Root mean square distance of each line's points, px."""
        return tuple(float(v) for v in np.sqrt((solved.errors**2).sum(1) / self.there.sum(1)))

    def ratio(self, solved: _Solved) -> float:
        """What is left over the noise of setting points."""
        free = self.total - 2 * len(self.points) - len(solved.parameters) + 2
        return float(np.sqrt((solved.errors**2).sum() / max(1, free)) / self.click)

    def odd_one(self, solved: _Solved) -> int | None:
        """The line that the others, without it, do not straighten while they do each other."""
        count = len(self.points)
        if count < 4 or not solved.count:
            return None
        others = ~np.eye(count, dtype=np.bool_)
        left_out = [self.solve(solved.family, solved.count, keep) for keep in others]
        own = np.array([self.per_line(s)[i] for i, s in enumerate(left_out)])
        rest = np.array(
            [np.sqrt((s.errors[k] ** 2).sum() / self.there[k].sum()) for s, k in zip(left_out, others, strict=True)]
        )
        worst = int(np.argmax(own / np.maximum(rest, self.click / 2)))
        return worst if own[worst] > DISAGREES * max(rest[worst], self.click) else None
