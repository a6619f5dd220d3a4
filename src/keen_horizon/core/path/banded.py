"""Convex quadratic programs that are banded in time, solved by an interior point.

    minimise  1/2 x'Hx - f'x   subject to  A_i x_i <= b_i  for every frame i

H couples a frame with a few neighbours (banded), the inequalities touch one frame each. Mehrotra's
predictor-corrector (1992; Nocedal & Wright, Numerical Optimization, 2nd ed., ch. 16.6) then needs one
banded Cholesky factor per iteration, linear in the number of frames.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_solve_banded, cholesky_banded

from keen_horizon.core.errors import SolveError

Floats = NDArray[np.float64]

ITERATIONS = 80
TOLERANCE = 1e-9


@dataclass(frozen=True)
class BandedProgram:
    """`hessian` (bands, N k) in SciPy's lower form, `linear` (N k,), `rows` (N, m, k), `bound` (N, m)."""

    hessian: Floats
    linear: Floats
    rows: Floats
    bound: Floats


def minimise_free(program: BandedProgram) -> Floats:
    """The minimiser without the inequalities, (N, k)."""
    factor = _factor(program.hessian)
    x = cho_solve_banded((factor, True), program.linear)
    residual = program.linear - banded_product(program.hessian, x)
    x = x + cho_solve_banded((factor, True), residual)
    return np.asarray(x.reshape(len(program.rows), -1))


def minimise(program: BandedProgram, start: Floats) -> Floats:
    """The minimiser (N, k) from `start`; every inequality holds. Raises SolveError without progress."""
    rows, bound = program.rows, program.bound
    x: Floats = start.copy()
    slack = np.maximum(bound - _times(rows, x), 1.0)
    dual = np.full_like(slack, 1.0)
    size = max(1.0, float(np.abs(program.linear).max()))
    for _ in range(ITERATIONS):
        gradient = banded_product(program.hessian, x.ravel()).reshape(x.shape)
        r_dual = gradient - program.linear.reshape(x.shape) + _back(rows, dual)
        r_primal = _times(rows, x) + slack - bound
        gap = float((slack * dual).mean())
        if gap < TOLERANCE * size and np.abs(r_primal).max() < 1e-7 and np.abs(r_dual).max() < 1e-6 * size:
            break
        factor = _factor(_with_barrier(program.hessian, rows, dual / slack))
        step = _direction(factor, rows, slack, dual, r_dual, r_primal, slack * dual)
        reach = min(_reach(slack, step[1]), _reach(dual, step[2]))
        after = float(((slack + reach * step[1]) * (dual + reach * step[2])).mean())
        centring = (after / gap) ** 3
        complement = slack * dual + step[1] * step[2] - centring * gap
        step = _direction(factor, rows, slack, dual, r_dual, r_primal, complement)
        reach = min(1.0, 0.995 * _reach(slack, step[1]), 0.995 * _reach(dual, step[2]))
        x, slack, dual = x + reach * step[0], slack + reach * step[1], dual + reach * step[2]
    if not np.isfinite(x).all() or (_times(rows, x) - bound).max() > 1e-3:
        raise SolveError("The camera path could not be solved for these limits. Raise the zoom limit a little.")
    return x


def banded_product(lower: Floats, x: Floats) -> Floats:
    """Symmetric banded matrix, lower form (bands, n), times x (n,)."""
    out: Floats = lower[0] * x
    for k in range(1, len(lower)):
        out[k:] += lower[k, :-k] * x[:-k]
        out[:-k] += lower[k, :-k] * x[k:]
    return out


def _factor(lower: Floats) -> Floats:
    return np.asarray(cholesky_banded(lower, lower=True, check_finite=False))


def _times(rows: Floats, x: Floats) -> Floats:
    return np.asarray(np.einsum("nmk,nk->nm", rows, x))


def _back(rows: Floats, y: Floats) -> Floats:
    return np.asarray(np.einsum("nmk,nm->nk", rows, y))


def _with_barrier(hessian: Floats, rows: Floats, weight: Floats) -> Floats:
    """H + A' diag(weight) A, in lower banded form."""
    blocks = np.einsum("nmj,nm,nmk->njk", rows, weight, rows)
    out = hessian.copy()
    k = rows.shape[2]
    for i in range(k):
        for j in range(i + 1):
            out[i - j, j::k] += blocks[:, i, j]
    return out


def _direction(
    factor: Floats,
    rows: Floats,
    slack: Floats,
    dual: Floats,
    r_dual: Floats,
    r_primal: Floats,
    complement: Floats,
) -> tuple[Floats, Floats, Floats]:
    right = -r_dual - _back(rows, (dual * r_primal - complement) / slack)
    dx = cho_solve_banded((factor, True), right.ravel(), check_finite=False).reshape(r_dual.shape)
    ds = -r_primal - _times(rows, dx)
    dz = -(complement + dual * ds) / slack
    return dx, ds, dz


def _reach(values: Floats, step: Floats) -> float:
    falling = step < 0
    return min(1.0, float((-values[falling] / step[falling]).min())) if falling.any() else 1.0
