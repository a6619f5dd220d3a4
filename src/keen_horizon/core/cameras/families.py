"""Families of central radial lenses, as what a source radius means.

Radii are in half-diagonals of the frame. A lens turns the point at radius r of the source into a ray whose
component along the axis is D(r), scaled so that D(0) = 1; straightened, it lies at r / D(r). Straight lines
show D up to nothing else, so the scale of the axis, the field of view, is not in it; for fisheyes it is in
their one figure, w = 1 / focal length squared.

- division (Fitzgibbon 2001): D = 1 + k1 r^2 + k2 r^4 + k3 r^6
- inverse polynomial: straightened radius = r (1 + k1 r^2 + k2 r^4)
- polynomial (Brown 1966), forward: r = s (1 + k1 s^2 + k2 s^4 + k3 s^6), s straightened
- fisheyes (Kannala & Brandt 2006 give all of them): equidistant r = f a, equisolid r = 2 f sin(a / 2),
  stereographic r = 2 f tan(a / 2), and the series r = f (a + k1 a^3 + k2 a^5 + k3 a^7 + k4 a^9)
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

FURTHEST = 4.0
NEWTON_STEPS = 8


@dataclass(frozen=True)
class Family:
    """`depth(r, k)` is D(r) for radii of any shape and coefficients k, whose parts broadcast with r.

    `spreads` are the coefficients' standard deviations over lenses; `fold(k)` is the source radius up to
    which the lens can be undone; `names` are shown beside the coefficients.
    """

    title: str
    names: tuple[str, ...]
    spreads: tuple[float, ...]
    depth: Callable[[Floats, Floats], Floats]
    fold: Callable[[Floats], float]
    angular: bool = False


def _polynomial(k: Floats, square: Floats) -> Floats:
    """1 + k1 x + k2 x^2 + ..., with k's first axis the coefficients."""
    total = np.zeros_like(square)
    for coefficient in k[::-1]:
        total = (total + coefficient) * square
    return total + 1.0


def _slope(k: Floats, square: Floats) -> Floats:
    """d/ds of s (1 + k1 s^2 + k2 s^4 + ...), at s^2."""
    odd = np.arange(3, 3 + 2 * len(k), 2).reshape(-1, *([1] * (np.ndim(k) - 1)))
    return _polynomial(k * odd, square)


def _first_root(coefficients: Floats) -> float:
    """The smallest positive x with 1 + c1 x + c2 x^2 + ... = 0, or infinity."""
    told = np.where(np.abs(coefficients) < 1e-12, 0.0, coefficients)
    roots = np.roots([*told[::-1], 1.0])
    real = roots[np.abs(roots.imag) < 1e-9].real
    positive = real[real > 1e-12]
    return float(positive.min()) if len(positive) else np.inf


def _forward_fold(k: Floats) -> float:
    """Where s (1 + k1 s^2 + ...) stops rising, as its value there."""
    top = _first_root(k * np.arange(3, 3 + 2 * len(k), 2))
    return float(np.sqrt(top) * _polynomial(k, np.array(top))) if np.isfinite(top) else np.inf


def _unfolded(r: Floats, k: Floats) -> Floats:
    """s with s (1 + k1 s^2 + ...) = r, by Newton's method kept on the rising side."""
    s = np.array(np.broadcast_to(r, np.broadcast_shapes(np.shape(r), np.shape(k)[1:])), np.float64)
    for _ in range(NEWTON_STEPS):
        square = s * s
        step = (s * _polynomial(k, square) - r) / np.maximum(_slope(k, square), 0.1)
        s = np.clip(s - step, 0.0, FURTHEST)
    return s


def _ratio(top: Floats, bottom: Floats) -> Floats:
    """top / bottom, which both go to zero alike."""
    return np.asarray(np.where(np.abs(bottom) < 1e-9, 1.0, top / np.where(np.abs(bottom) < 1e-9, 1.0, bottom)))


def _division(r: Floats, k: Floats) -> Floats:
    return _polynomial(k, r * r)


def _division_fold(k: Floats) -> float:
    """Where the ray is square to the axis, or where r / D stops rising, whichever comes first."""
    flat = _first_root(k)
    turn = _first_root(k * -np.arange(1, 2 * len(k), 2))
    return float(np.sqrt(min(flat, turn)))


def _inverse(r: Floats, k: Floats) -> Floats:
    return np.asarray(1.0 / _polynomial(k, r * r))


def _inverse_fold(k: Floats) -> float:
    return float(np.sqrt(min(_first_root(k), _first_root(k * np.arange(3, 3 + 2 * len(k), 2)))))


def _forward(r: Floats, k: Floats) -> Floats:
    return _polynomial(k, _unfolded(r, k) ** 2)


def _fisheye(angle: Callable[[Floats], Floats], furthest: float) -> tuple[Callable[..., Floats], Callable[..., float]]:
    """Depth and fold of a family whose ray angle is angle(r / f); `furthest` is r / f square to the axis."""

    def depth(r: Floats, k: Floats) -> Floats:
        w = np.maximum(k[0], 0.0)
        scaled = r * np.sqrt(w)
        return _ratio(scaled, np.tan(angle(scaled)))

    def fold(k: Floats) -> float:
        return float(furthest / np.sqrt(k[0])) if k[0] > 0 else np.inf

    return depth, fold


def _equisolid_angle(x: Floats) -> Floats:
    return np.asarray(2 * np.arcsin(np.minimum(x / 2, 1.0)))


def _stereographic_angle(x: Floats) -> Floats:
    return np.asarray(2 * np.arctan(x / 2))


def _series(r: Floats, k: Floats) -> Floats:
    scaled = r * np.sqrt(np.maximum(k[0], 0.0))
    return _ratio(scaled, np.tan(_unfolded(scaled, k[1:])))


def _series_fold(k: Floats) -> float:
    if k[0] <= 0:
        return np.inf
    turns = np.sqrt(_first_root(k[1:] * np.arange(3, 1 + 2 * len(k), 2)))
    furthest = min(float(turns), np.pi / 2)  # where the curve turns back, or the ray is square to the axis
    return float(furthest * _polynomial(k[1:], np.array(furthest**2)) / np.sqrt(k[0]))


_equidistant = _fisheye(lambda x: x, np.pi / 2)
_equisolid = _fisheye(_equisolid_angle, np.sqrt(2))
_stereographic = _fisheye(_stereographic_angle, 2.0)

K = (0.5, 0.2, 0.1)
W = 1.5

FAMILIES: dict[str, Family] = {
    "division": Family("division", ("k1", "k2", "k3"), K, _division, _division_fold),
    "inverse": Family("inverse polynomial", ("k1", "k2", "k3"), K, _inverse, _inverse_fold),
    "polynomial": Family("polynomial", ("k1", "k2", "k3"), K, _forward, _forward_fold),
    "equidistant": Family("equidistant fisheye", ("w",), (W,), *_equidistant, angular=True),
    "equisolid": Family("equisolid fisheye", ("w",), (W,), *_equisolid, angular=True),
    "stereographic": Family("stereographic fisheye", ("w",), (W,), *_stereographic, angular=True),
    "series": Family(
        "fisheye series", ("w", "k1", "k2", "k3", "k4"), (W, 0.3, 0.2, 0.1, 0.05), _series, _series_fold, angular=True
    ),
}  # fmt: skip
