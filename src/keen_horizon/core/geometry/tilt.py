"""The tilt of a frame: its perspective, apart from where it lies, how it turns and how large it is.

A tilt is a complex number p = px + i py in 1/px. It moves a point c, origin in the middle of the frame, to

    U(p)(c) = c / (1 + p . c) + m(p),     p . c = Re(conj(p) c),     m(p) = (px w^2 + i py h^2) / 12.

The shift m makes it orthogonal, to first order and over the whole frame, to every similarity, so that a
similarity fitted without a tilt stays the best one with it. To first order tilts add up.
"""

from __future__ import annotations

import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Floats


def middle_shift(tilt: Complex, size: Size) -> Complex:
    """m(p) for tilts (N,)."""
    return np.asarray((tilt.real * size.width**2 + 1j * tilt.imag * size.height**2) / 12)


def tilted(tilt: Complex, points: Complex, size: Size) -> Complex:
    """U(p)(c) for every tilt (N,) and centred point (M,), or points (N, M) of each -> (N, M)."""
    depth = 1 + (np.conj(tilt)[:, None] * points).real
    return np.asarray(points / depth + middle_shift(tilt, size)[:, None])


def tilt_matrices(tilt: Complex, size: Size) -> Floats:
    """U(p) as matrices (N, 3, 3) on centred points (x, y, 1)."""
    shift = middle_shift(tilt, size)
    out = np.tile(np.eye(3), (len(tilt), 1, 1))
    out[:, 2, 0], out[:, 2, 1] = tilt.real, tilt.imag
    out[:, 0] += shift.real[:, None] * out[:, 2]
    out[:, 1] += shift.imag[:, None] * out[:, 2]
    out[:, 0, 0], out[:, 1, 1] = 1 + shift.real * tilt.real, 1 + shift.imag * tilt.imag
    return out


def fit_tilts(
    source: Complex, moved: Complex, weights: Floats, size: Size, expected: Complex, spread: float
) -> tuple[Complex, Complex, Complex]:
    """Of E sets of points: similarities 1 + dz, dt and tilts p (E,), near the identity, with moved =
    (1 + dz) U(p)(source) + dt.

    `source` and `moved` (E, N) are centred; `weights` (E, N) are inverse variances; p is drawn to `expected` (E,) with
    standard deviation `spread`, so that few or crowded points give no wild perspective.
    """
    h = size.half_diagonal
    across, down = _linear(size)
    x, y = source.real / h, source.imag / h
    off = (moved - source) / h
    terms = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y, off.real, off.imag], -2)
    sums = (terms[..., :6, :] * weights[..., None, :]) @ np.swapaxes(terms, -1, -2)
    moments, pulled = sums[..., :6], sums[..., 6:]
    normal = across @ moments @ across.T + down @ moments @ down.T
    wanted = across @ pulled[..., :1] + down @ pulled[..., 1:]
    prior = 1 / (h**2 * spread) ** 2
    for i, value in ((4, expected.real), (5, expected.imag)):
        normal[..., i, i] += prior
        wanted[..., i, 0] += prior * value * h
    four = np.arange(4)
    normal[..., four, four] += 1e-9 * np.trace(normal, axis1=-2, axis2=-1)[..., None]
    found = np.linalg.solve(normal, wanted)[..., 0] * [1, 1, h, h, 1 / h, 1 / h]
    return found[..., 0] + 1j * found[..., 1], found[..., 2] + 1j * found[..., 3], found[..., 4] + 1j * found[..., 5]


def _linear(size: Size) -> tuple[Floats, Floats]:
    """How points move across and down with each of the six figures of a similarity and a tilt, near the identity: what
    1, x, y, x^2, xy and y^2 count for, (6, 6) each, all in half-diagonals.
    """
    wide, high = np.array([size.width, size.height]) ** 2 / 12 / size.half_diagonal**2
    one, x, y, xx, xy, yy = np.eye(6)
    none = np.zeros(6)
    across = np.array([x, -y, one, none, wide * one - xx, -xy])
    down = np.array([y, x, none, one, -xy, high * one - yy])
    return across, down
