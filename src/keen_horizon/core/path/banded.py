"""Convex quadratic programs that are banded in time, solved by an interior point.

    minimise  1/2 x'Hx - f'x   subject to  s_i A_i x_i <= b_i  for every frame i

H couples a frame with a few neighbours (banded), the inequalities touch one frame each; where they are the
same for all but for a scale, they are one matrix product. Mehrotra's
predictor-corrector (1992; Nocedal & Wright, Numerical Optimization, 2nd ed., ch. 16.6) then needs one
banded Cholesky factor per iteration, linear in the number of frames.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import LinAlgError, cho_solve_banded, cholesky_banded

from keen_horizon.core.errors import SolveError

Floats = NDArray[np.float64]

NOT_SOLVED = "The camera path could not be solved for these limits. Raise the zoom limit a little."
ITERATIONS = 80
TOLERANCE = 1e-9


@dataclass(frozen=True)
class BandedProgram:
    """`hessian` (bands, N k) in SciPy's lower form, `linear` (N k,).

    `rows` is A (m, k) for all frames, or (N, m, k); `scale` is s (N,), `bound` b (N, m).
    """

    hessian: Floats
    linear: Floats
    rows: Floats
    scale: Floats
    bound: Floats

    def left(self, x: Floats) -> Floats:
        """The left sides s_i A_i x_i (N, m) for x (N, k)."""
        if self.rows.ndim == 2:
            return np.asarray(self.scale[:, None] * (x @ self.rows.T))
        return np.asarray(np.einsum("knm,kn->nm", self.columns, self.scale * x.T))

    def back(self, y: Floats) -> Floats:
        """The transpose of `left`: y (N, m) -> (N, k)."""
        if self.rows.ndim == 2:
            return np.asarray(self.scale[:, None] * (y @ self.rows))
        return np.asarray(self.scale[:, None] * np.einsum("knm,nm->nk", self.columns, y))

    def weighed(self, weight: Floats) -> Floats:
        """A' diag(weight) A of every frame (N, k, k), weight (N, m)."""
        scaled = self.scale[:, None] ** 2 * weight
        if self.rows.ndim == 2:
            return np.asarray((scaled @ self.products).reshape(len(weight), *2 * [self.rows.shape[-1]]))
        return np.asarray(np.einsum("ijnm,nm->nij", self.products, scaled))

    @cached_property
    def columns(self) -> Floats:
        """Rows of their own for every frame, column by column (k, N, m)."""
        return np.ascontiguousarray(np.moveaxis(self.rows, -1, 0))

    @cached_property
    def products(self) -> Floats:
        """Every row's column times every other: (m, k k), or (k, k, N, m) where frames have rows of their own."""
        if self.rows.ndim == 2:
            return np.asarray((self.rows[:, :, None] * self.rows[:, None, :]).reshape(len(self.rows), -1))
        return np.asarray(self.columns[:, None] * self.columns[None])


def minimise_free(program: BandedProgram) -> Floats:
    """The minimiser without the inequalities, (N, k)."""
    factor = _factor(program.hessian)
    x = cho_solve_banded((factor, True), program.linear)
    residual = program.linear - banded_product(program.hessian, x)
    x = x + cho_solve_banded((factor, True), residual)
    return np.asarray(x.reshape(len(program.scale), -1))


def minimise(program: BandedProgram, start: Floats, tolerance: float = TOLERANCE) -> Floats:
    """The minimiser (N, k) from `start`; every inequality holds. Raises SolveError without progress.

    `tolerance` is what may be left of the gap between bounds and what binds, as a share of the pull.
    """
    bound = program.bound
    x: Floats = start.copy()
    pull = banded_product(program.hessian, x.ravel()) - program.linear
    size = max(1.0, float(np.abs(program.linear).max()), float(np.abs(pull).max()))
    slack = np.maximum(bound - program.left(x), 1.0)
    dual = size / slack  # on one central path from the start: four times fewer rounds than from ones
    for _ in range(ITERATIONS):
        gradient = banded_product(program.hessian, x.ravel()).reshape(x.shape)
        r_dual = gradient - program.linear.reshape(x.shape) + program.back(dual)
        r_primal = program.left(x) + slack - bound
        gap = float((slack * dual).mean())
        if gap < tolerance * size and np.abs(r_primal).max() < 1e-7 and np.abs(r_dual).max() < 1e-6 * size:
            break
        factor = _factor(_with_barrier(program, dual / slack))
        step = _direction(program, factor, slack, dual, r_dual, r_primal, slack * dual)
        reach = min(_reach(slack, step[1]), _reach(dual, step[2]))
        after = float(((slack + reach * step[1]) * (dual + reach * step[2])).mean())
        centring = (after / gap) ** 3
        complement = slack * dual + step[1] * step[2] - centring * gap
        step = _direction(program, factor, slack, dual, r_dual, r_primal, complement)
        reach = min(1.0, 0.995 * _reach(slack, step[1]), 0.995 * _reach(dual, step[2]))
        x, slack, dual = x + reach * step[0], slack + reach * step[1], dual + reach * step[2]
    if not np.isfinite(x).all() or (program.left(x) - bound).max() > 1e-3:
        raise SolveError(NOT_SOLVED)
    return x


def banded_product(lower: Floats, x: Floats) -> Floats:
    """Symmetric banded matrix, lower form (bands, n), times x (n,)."""
    out: Floats = lower[0] * x
    for k in range(1, len(lower)):
        out[k:] += lower[k, :-k] * x[:-k]
        out[:-k] += lower[k, :-k] * x[k:]
    return out


def _factor(lower: Floats) -> Floats:
    try:
        return np.asarray(cholesky_banded(lower, lower=True, check_finite=False))
    except LinAlgError as error:
        raise SolveError(NOT_SOLVED) from error


def _with_barrier(program: BandedProgram, weight: Floats) -> Floats:
    """H + A' diag(weight) A, in lower banded form."""
    blocks = program.weighed(weight)
    out = program.hessian.copy()
    k = blocks.shape[-1]
    for i in range(k):
        for j in range(i + 1):
            out[i - j, j::k] += blocks[:, i, j]
    return out


def _direction(
    program: BandedProgram,
    factor: Floats,
    slack: Floats,
    dual: Floats,
    r_dual: Floats,
    r_primal: Floats,
    complement: Floats,
) -> tuple[Floats, Floats, Floats]:
    right = -r_dual - program.back((dual * r_primal - complement) / slack)
    dx = cho_solve_banded((factor, True), right.ravel(), check_finite=False).reshape(r_dual.shape)
    ds = -r_primal - program.left(dx)
    dz = -(complement + dual * ds) / slack
    return dx, ds, dz


def _reach(values: Floats, step: Floats) -> float:
    return 1 / max(1.0, float((-step / values).max(initial=0.0)))
