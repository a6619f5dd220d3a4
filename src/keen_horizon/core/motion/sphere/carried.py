"""What the camera carries along (the one below it, a pole, its own arms): it stands still in the picture while the
world turns. A cell of the picture is taken for that where its points, over all matches, stand still likelier than they
turn along.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.sphere.matches import NOISE_RAD, SphereMatches, blocks

Floats = NDArray[np.float64]

CELL_DEG = 12.0
AGREEING = 4.0  # noises, from a point to where a motion puts it
MOST_TOLD, SURELY = 4.0, 12.0  # logarithms of how much likelier one thing is: by a point at most, and to be believed


@dataclass(frozen=True)
class Told:
    """What tells that each cell (K,) is carried, `sure` logarithms of how much likelier that is, and by which share of
    its points that tell something, `agreeing`.
    """

    sure: Floats
    agreeing: Floats

    @property
    def carried(self) -> NDArray[np.bool_]:
        """Which cells (K,) are."""
        return self.sure > SURELY


def told_carried(matches: SphereMatches, turns: Floats, cell_deg: float = CELL_DEG) -> Told:
    """What all matches tell, of which each turned by (E, 3, 3)."""
    sure, standing, telling = (np.zeros(cells_of(np.zeros((0, 3)), cell_deg)[1]) for _ in range(3))
    for rows in blocks(len(turns)):
        part = matches.part(rows)
        source, target = part.source.astype(np.float64), part.target
        turned = source @ np.swapaxes(turns[rows], 1, 2)
        from_turned, from_still = (np.linalg.norm(target - place, axis=-1) / NOISE_RAD for place in (turned, source))
        tells = np.clip((from_turned**2 - from_still**2) / 2, -MOST_TOLD, MOST_TOLD)
        tells[np.minimum(from_turned, from_still) > AGREEING] = 0.0
        cells, tell = cells_of(source, cell_deg)[0][part.there], tells[part.there]
        for total, of_points in ((sure, tell), (standing, tell > 0), (telling, tell != 0)):
            total += np.bincount(cells, of_points, minlength=len(total))
    return Told(sure, standing / np.maximum(telling, 1))


def carried_points(matches: SphereMatches, turns: Floats) -> NDArray[np.bool_]:
    """Which points (E, M) lie where the camera carries something along."""
    told = told_carried(matches, turns).carried
    carried = np.zeros(matches.there.shape, np.bool_)
    for rows in blocks(len(turns)):
        carried[rows] = matches.there[rows] & told[cells_of(matches.source[rows])[0]]
    return carried


def cells_of(rays: NDArray[np.floating], cell_deg: float = CELL_DEG) -> tuple[NDArray[np.intp], int]:
    """The cell of the picture that each ray (..., 3) lies in, about as large everywhere, and how many there are."""
    rows = round(180 / cell_deg)
    latitude = np.arcsin(np.clip(rays[..., 1], -1, 1)) / np.pi + 0.5
    row = np.minimum((latitude * rows).astype(int), rows - 1)
    columns = np.maximum(1, np.rint(2 * rows * np.cos(((np.arange(rows) + 0.5) / rows - 0.5) * np.pi))).astype(int)
    starts = np.r_[0, np.cumsum(columns)]
    longitude = np.arctan2(rays[..., 0], rays[..., 2]) / (2 * np.pi) + 0.5
    column = np.minimum((longitude * columns[row]).astype(int), columns[row] - 1)
    return np.asarray(starts[row] + column, np.intp), int(starts[-1])
