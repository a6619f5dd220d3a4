"""Planes (homographies) parted into what is moved, turned and enlarged, what is stretched, and what is tilted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.geometry.tilt import middle_shift

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class PlaneParts:
    """Planes as S stretch U(tilt): a similarity, a symmetric `stretch` (N, 2, 2) of determinant 1, and a tilt."""

    correction: Similarities
    stretch: Floats
    tilt: Complex


def _linear(planes: Floats) -> Floats:
    """What planes (N, 3, 3) whose last figure is 1 do near the middle (N, 2, 2)."""
    return np.asarray(planes[:, :2, :2] - planes[:, :2, 2, None] * planes[:, 2, None, :2])


def sizes_of(planes: Floats) -> Floats:
    """How much larger planes (N, 3, 3) whose last figure is 1 show things near the middle (N,)."""
    linear = _linear(planes)
    return np.asarray(np.sqrt(linear[:, 0, 0] * linear[:, 1, 1] - linear[:, 0, 1] * linear[:, 1, 0]))


def parted(planes: Floats, size: Size) -> PlaneParts:
    """The parts of planes (N, 3, 3) on points from the middle whose last figure is 1."""
    shift, lean = planes[:, :2, 2], planes[:, 2, :2]
    linear = _linear(planes)
    turn = linear[:, 0, 0] + linear[:, 1, 1] + 1j * (linear[:, 1, 0] - linear[:, 0, 1])
    z = np.asarray(turn / np.abs(turn) * sizes_of(planes), np.complex128)
    turned_back = Similarities(1 / z, np.zeros(len(z), np.complex128)).matrices()[:, :2, :2]
    stretch = turned_back @ linear
    tilt = lean[:, 0] + 1j * lean[:, 1]
    middle = middle_shift(tilt, size)
    moved = linear @ np.stack([middle.real, middle.imag], -1)[..., None]
    t = shift[:, 0] + 1j * shift[:, 1] - moved[:, 0, 0] - 1j * moved[:, 1, 0]
    return PlaneParts(Similarities(z, t), stretch, tilt)
