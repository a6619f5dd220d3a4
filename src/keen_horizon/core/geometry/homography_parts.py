"""Homographies parted into what is moved, turned and enlarged, what is stretched, and what is tilted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.geometry.tilt import middle_shift

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class HomographyParts:
    """Homographies as S stretch U(tilt): a similarity, a symmetric `stretch` (N, 2, 2) of determinant 1, and a tilt."""

    correction: Similarities
    stretch: Floats
    tilt: Complex


def _linear(homographies: Floats) -> Floats:
    """What homographies (N, 3, 3) whose last figure is 1 do near the middle (N, 2, 2)."""
    return np.asarray(homographies[:, :2, :2] - homographies[:, :2, 2, None] * homographies[:, 2, None, :2])


def sizes_of(homographies: Floats) -> Floats:
    """How much larger homographies (N, 3, 3) whose last figure is 1 show things near the middle (N,)."""
    linear = _linear(homographies)
    return np.asarray(np.sqrt(linear[:, 0, 0] * linear[:, 1, 1] - linear[:, 0, 1] * linear[:, 1, 0]))


def parted(homographies: Floats, size: Size) -> HomographyParts:
    """The parts of homographies (N, 3, 3) on points from the middle whose last figure is 1."""
    shift, lean = homographies[:, :2, 2], homographies[:, 2, :2]
    linear = _linear(homographies)
    turn = linear[:, 0, 0] + linear[:, 1, 1] + 1j * (linear[:, 1, 0] - linear[:, 0, 1])
    z = np.asarray(turn / np.abs(turn) * sizes_of(homographies), np.complex128)
    turned_back = Similarities(1 / z, np.zeros(len(z), np.complex128)).matrices()[:, :2, :2]
    stretch = turned_back @ linear
    tilt = lean[:, 0] + 1j * lean[:, 1]
    middle = middle_shift(tilt, size)
    moved = linear @ np.stack([middle.real, middle.imag], -1)[..., None]
    t = shift[:, 0] + 1j * shift[:, 1] - moved[:, 0, 0] - 1j * moved[:, 1, 0]
    return HomographyParts(Similarities(z, t), stretch, tilt)
