"""Colours that lie apart (lateral chromatic aberration): glass enlarges red and blue otherwise than green.

The red of what green shows at radius r lies at

    r (1 + s + c r^2),

r in half-diagonals of the source frame from a centre that both colours share; blue likewise, with figures of its own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

Spread = tuple[float, float]  # s and c


@dataclass(frozen=True)
class Fringe:
    """`red` and `blue` are s and c of each; `centre` is an offset from the frame's middle in half-diagonals, x right
    and y down.
    """

    red: Spread = (0.0, 0.0)
    blue: Spread = (0.0, 0.0)
    centre: complex = 0j

    @property
    def colours(self) -> tuple[Spread, Spread]:
        """The figures of red and blue."""
        return self.red, self.blue

    @property
    def any(self) -> bool:
        """Whether a colour lies elsewhere than green."""
        return any(self.red) or any(self.blue)

    def seen(self, spread: Spread, places: NDArray[np.complex128]) -> NDArray[np.complex128]:
        """Where a colour lies of what green shows at places, half-diagonals from the frame's middle."""
        away = places - self.centre
        return np.asarray(places + away * (spread[0] + spread[1] * np.abs(away) ** 2))

    def at_corner(self, half_diagonal: float) -> tuple[float, float]:
        """How far red and blue lie outwards of green at a corner of a centred picture, px."""
        red, blue = (half_diagonal * sum(spread) for spread in self.colours)
        return red, blue
