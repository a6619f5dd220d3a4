"""Light that falls off towards the corners (vignetting), and how much of it is lifted again.

Of the light in the middle there arrives

    gain(r) = 1 + c1 r^2 + c2 r^4 + c3 r^6,

r in half-diagonals of the source frame from a centre of the glass's own, which a filter that is not straight moves.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

LEAST_GAIN = 0.02  # less is no light that could be lifted: a choice, 5.6 stops


@dataclass(frozen=True)
class Falloff:
    """`coefficients` c1 ... c3; `centre` is an offset from the frame's middle in half-diagonals, x right and y down.

    `amount` is the share of every stop that is undone, `most_stops` the most that anything is lifted.
    """

    coefficients: tuple[float, ...]
    centre: complex = 0j
    amount: float = 1.0
    most_stops: float = np.inf

    @property
    def reach(self) -> float:
        """The radius beyond which no corner lies."""
        return 1 + abs(self.centre)

    def gain(self, squares: Floats) -> Floats:
        """The light at squared radii, of that in the middle: never above 1, never below LEAST_GAIN."""
        total = np.ones_like(squares)
        power = np.ones_like(squares)
        for coefficient in self.coefficients:
            power = power * squares
            total = total + coefficient * power
        return np.asarray(np.clip(total, LEAST_GAIN, 1.0))

    def lift(self, squares: Floats) -> Floats:
        """What light at squared radii is multiplied by, 1 or more."""
        stops = -self.amount * np.log2(self.gain(squares))
        return np.asarray(2.0 ** np.minimum(stops, self.most_stops))

    def squares(self, x: Floats, y: Floats) -> Floats:
        """Squared radii of places, half-diagonals from the frame's middle."""
        return (x - self.centre.real) ** 2 + (y - self.centre.imag) ** 2

    def corner_stops(self, width: float, height: float) -> float:
        """How far the corner that is lifted most is lifted; noise goes along."""
        half = np.hypot(width, height)
        x, y = np.array([-1, 1, 1, -1]) * width / half, np.array([-1, -1, 1, 1]) * height / half
        return float(np.log2(self.lift(self.squares(x, y)).max()))
