"""Where the output has no picture: found on the border, counted on every pixel.

There is none outside the source frame, and none beyond an edge where no light arrives.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.mapping.frame_map import Maps, PlaneGrid
from keen_horizon.core.mapping.staged import StagedMap

TOLERANCE_PX = 0.01


def border_overhang(through: StagedMap, frame: int) -> float:
    """How far the output's border reaches outside the source's picture, in display pixels; <= 0 when inside."""
    size = through.size
    found = through.places(frame, size.border(step=8))
    low = -0.5 - found
    high = found - (size.width - 0.5, size.height - 0.5)
    overhang = float(max(low.max(), high.max()))
    if through.dead is None:
        return overhang
    places = (found[:, 0] + 1j * found[:, 1] - size.centre) / size.half_diagonal
    return max(overhang, -float(through.dead.room(places).min()) * size.half_diagonal)


def gap_mask(maps: Maps, source: PlaneGrid, through: StagedMap) -> NDArray[np.bool_]:
    """Output samples (rows, columns) whose point has no picture in the source plane."""
    return np.asarray(room_inside(maps, source, through) < -TOLERANCE_PX)


def room_inside(maps: Maps, source: PlaneGrid, through: StagedMap) -> NDArray[np.float32]:
    """How far inside the source plane's picture each point lies, in the plane's pixels; negative outside."""
    rows, columns = source.shape
    x, y = maps
    room = np.minimum(np.minimum(x + 0.5, columns - 0.5 - x), np.minimum(y + 0.5, rows - 0.5 - y))
    if through.dead is not None:
        room = np.minimum(room, room_before_dead(maps, source, through))
    return np.asarray(room, np.float32)


def room_before_dead(maps: Maps, source: PlaneGrid, through: StagedMap) -> NDArray[np.float64]:
    """The same, up to the dead edge alone, which there must be."""
    assert through.dead is not None
    half, middle = through.size.half_diagonal, through.size.centre
    (across, _, left), (_, down, top) = source.display_from_plane[:2]
    x, y = ((across * maps[0] + (left - middle.real)) / half, (down * maps[1] + (top - middle.imag)) / half)
    return np.asarray(through.dead.room(x + 1j * y) * (half / abs(across)))
