"""One family's radial curve told by another's coefficients.

Lens files know three curves, with radii over the focal length f: r = s (1 + k1 s^2 + k2 s^4 + k3 s^6), the same
from bent to straight, and r = a + k1 a^3 + k2 a^5 + k3 a^7 + k4 a^9 of the ray's angle a. What a family cannot
say exactly is fitted over the frame by least squares, and how far that is off is told.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import ProfileError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens

Floats = NDArray[np.float64]

SAMPLES = 400
TOO_FAR_OFF_PX = 2.0


@dataclass(frozen=True)
class Curve:
    """Coefficients of radii over `focal` (half-diagonals), and the largest error of the fit in px of the frame."""

    k: tuple[float, ...]
    focal: float
    error_px: float


def focal_length(lens: Lens, known: float | None = None) -> float:
    """In half-diagonals: what a fisheye's own figure tells, else what is known, else 1."""
    return float(1 / np.sqrt(lens.k[0])) if lens.kind.angular and lens.k[0] > 0 else known or 1.0


def forward_curve(lens: Lens, size: Size, known: float | None) -> Curve:
    """From straight to bent, three coefficients. Raises ProfileError where these cannot tell the lens."""
    focal = focal_length(lens, known)
    if lens.family == "polynomial":
        return _exact(lens, focal)
    r, s = _samples(lens)
    k = _fitted(s / focal, r / s, 3)
    off = s * _polynomial(k, s / focal) - r
    return _checked(k, focal, off, size, "three forward coefficients")


def inverse_curve(lens: Lens, size: Size, known: float | None) -> Curve:
    """From bent to straight, three coefficients. Raises ProfileError where these cannot tell the lens."""
    focal = focal_length(lens, known)
    if lens.family == "inverse":
        return _exact(lens, focal)
    r, s = _samples(lens)
    k = _fitted(r / focal, s / r, 3)
    slope = np.maximum(np.gradient(s, r), 1e-6)
    off = (r * _polynomial(k, r / focal) - s) / slope
    return _checked(k, focal, off, size, "three coefficients from bent to straight")


def angular_curve(lens: Lens, size: Size) -> Curve:
    """From the ray's angle to bent, four coefficients. Raises ProfileError."""
    focal = focal_length(lens)
    if lens.family in ("series", "equidistant"):
        return Curve((*lens.k[1:], *[0.0] * 4)[:4], focal, 0.0)
    r, s = _samples(lens)
    angle = np.arctan(s / focal)
    k = _fitted(angle, r / focal / angle, 4)
    off = angle * focal * _polynomial(k, angle) - r
    return _checked(k, focal, off, size, "four coefficients of the angle")


def _exact(lens: Lens, focal: float) -> Curve:
    return Curve(tuple(k * focal ** (2 * i + 2) for i, k in enumerate((*lens.k, 0.0, 0.0)[:3])), focal, 0.0)


def _samples(lens: Lens) -> tuple[Floats, Floats]:
    """Source radii over the frame as far as the lens can be undone, and straightened ones."""
    r = np.linspace(0, min(1.0, 0.995 * lens.fold), SAMPLES + 1)[1:]
    return r, lens.straightened_radius(r)


def _fitted(at: Floats, ratio: Floats, count: int) -> tuple[float, ...]:
    powers = at[:, None] ** (2 * np.arange(1, count + 1))
    weight = (at / np.maximum(ratio, 1e-9))[:, None]  # so that errors count as radii, not as ratios
    found = np.linalg.lstsq(powers * weight, (ratio - 1) * weight[:, 0], rcond=None)[0]
    return tuple(float(k) for k in found)


def _polynomial(k: tuple[float, ...], at: Floats) -> Floats:
    return np.asarray(1 + sum(c * at ** (2 * i + 2) for i, c in enumerate(k)), np.float64)


def _checked(k: tuple[float, ...], focal: float, off: Floats, size: Size, what: str) -> Curve:
    error = float(np.abs(off).max() * size.half_diagonal)
    if not error <= TOO_FAR_OFF_PX:
        raise ProfileError(
            f"This lens bends too much to be told by {what}: {error:.1f} px off at worst. "
            "Use the form of this project, or OpenCV's fisheye form for a fisheye."
        )
    return Curve(k, focal, error)
