"""The perspective part of a correction: smoothed like the rest of the path, bounded by what the window allows.

Tilts add up to first order (see geometry.tilt), so the steadied ones are a linear filter of the measured
ones, with the same weights as the rest of the wish. The correction made is the difference, as a frame sees
it. Where a zoom limit binds, its size is held below a share of the room that the window leaves.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex
from keen_horizon.core.path.banded import BandedProgram, minimise, minimise_free
from keen_horizon.core.path.program import Wish, difference_bands

Floats = NDArray[np.float64]

MOST = 0.05  # of the depth at a corner: more is nothing that shake does
MOST_STRAIGHTENED = 0.3  # but a turning camera does more to the straightened picture of a wide lens
DIRECTIONS = np.exp(2j * np.pi * np.arange(8) / 8)


def tilt_corrections(tilts: Complex, turns: Complex, wish: Wish, size: Size, room: float = MOST) -> Complex:
    """Corrections (N,) in 1/px for measured `tilts` (N,) of frames turned by z = `turns` (N,).

    `room` is the largest |q| times half the diagonal. Raises SolveError.
    """
    if room <= 0 or len(tilts) < 2:
        return np.zeros(len(tilts), np.complex128)
    radius = size.half_diagonal
    scale = radius**2
    measured = scale * tilts / np.conj(turns)
    steady = bool(wish.first.any())
    target = np.full(len(tilts), np.median(measured.real) + 1j * np.median(measured.imag)) if steady else measured
    rows = np.stack([DIRECTIONS.real, DIRECTIONS.imag], -1)
    reach = room * radius * np.cos(np.pi / 8)
    values, wanted = (np.stack([x.real, x.imag], -1) for x in (measured, target))
    bands = difference_bands(wish.first, wish.third)
    hessian = np.zeros((2 * len(bands) - 1, 2 * len(tilts)))
    hessian[::2] = np.repeat(bands, 2, axis=1)
    program = BandedProgram(hessian, wanted.ravel(), rows, np.ones(len(tilts)), values @ rows.T + reach)
    found = minimise_free(program)
    if (program.left(found) > program.bound).any():
        found = minimise(program, values)
    change = (found[:, 0] + 1j * found[:, 1] - measured) / scale
    return np.asarray(wish.strength * change * np.conj(turns))
