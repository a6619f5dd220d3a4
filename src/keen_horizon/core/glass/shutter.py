"""A rolling shutter: rows that are read one after another, each at a moment of its own.

The moment of a row, in frames, is frame + readout (row / rows - 1/2): a frame's own number is its middle row's.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keen_horizon.core.geometry.similarity import Complex, Floats

FURTHEST = 1.2  # frames: no camera takes longer to read its rows
LEAST_SEEN = 0.03  # frames: less moves no row by as much as points are followed exactly (a choice)
SURE = 0.02  # the largest doubt of a readout that is told


@dataclass(frozen=True)
class Readout:
    """The time from a frame's first row to its last, `frames`, as a share of the time between frames.

    Negative where the last row is read first. `doubt` is its standard error; `enough` whether the clip moved enough,
    and agrees enough, to tell.
    """

    frames: float
    doubt: float
    enough: bool

    @property
    def confidence(self) -> float:
        """From 1, known exactly, over 0.5, barely told, to 0, not told."""
        return float(1 - self.doubt / (2 * SURE)) if self.enough else 0.0

    @property
    def seen(self) -> bool:
        """Whether it is told, and long enough to be seen."""
        return self.enough and abs(self.frames) >= LEAST_SEEN

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON, for others."""
        return {"frames": round(self.frames, 4), "confidence": round(self.confidence, 3), "enough": self.enough}


UNKNOWN = Readout(0.0, float("inf"), False)


def row_shares(points: Complex, width: float, height: float, turns: int) -> Floats:
    """Where points, px from the middle, lie between the sensor's first row (-1/2) and its last (1/2).

    The stored picture's way down points right, up or left once quarter `turns` anticlockwise made it upright.
    """
    down = (1j, 1 + 0j, -1j, -1 + 0j)[turns % 4]
    rows = height if turns % 2 == 0 else width
    return np.asarray((np.conj(down) * points).real / rows)
