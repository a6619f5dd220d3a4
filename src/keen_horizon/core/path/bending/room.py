"""How far a mesh may draw in picture from beyond the window: up to the source's border.

The window is shrunk so that it may, as far as the zoom limit allows.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.ndimage import minimum_filter1d, uniform_filter1d

from keen_horizon.core.geometry.picture import transform
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.path.camera_path import CameraPath, recentred
from keen_horizon.core.treatment.edges import Edges

STEP = 24  # px between looked-at points of the window's border, which a lens bows by hundredths of a pixel between them
SPARE = 0.9  # of that room: within it a mesh still rises by a twentieth of the way
SETTLING_S = 0.25  # to either side, over which room that is lost and found again is taken as lost
BEYOND_PX = 0.01  # from which a window reaches beyond the source, since that is wanted
MOSTLY = 98.0  # per cent of frames that the window leaves all the room that they want


def with_room(path: CameraPath, outwards: Floats, edges: Edges) -> CameraPath:
    """The path, its window shrunk so that left, top, right and bottom have room for `outwards` (N, 4), px."""
    if edges.way not in ("fill", "trim") or not edges.window.untouched or edges.gaps_wanted:
        return path
    left = _left(path)
    missing = np.where(left < -BEYOND_PX, 0.0, np.maximum(0.0, outwards / SPARE - left))
    sides = np.array([path.size.width, path.size.height, path.size.width, path.size.height]) / 2
    inner = sides / path.zoom[:, None]
    factor = float(np.percentile((inner / np.maximum(inner - missing, inner / 2)).max(1), MOSTLY))
    factor = min(factor, max(1.0, edges.zoom_limit / float(path.zoom.max())))
    return replace(path, shrink=path.shrink * factor, wanted_zoom=path.wanted_zoom * factor)


def border_room(path: CameraPath, rate: float) -> Floats:
    """How far the window of every frame stays from the source's left, top, right and bottom (N, 4), px; 0 beyond it.

    Room that comes and goes is the least of the frames around, and changes slowly.
    """
    around = 2 * max(1, round(SETTLING_S * rate)) + 1
    least = minimum_filter1d(SPARE * np.maximum(_left(path), 0.0), 2 * around - 1, axis=0, mode="nearest")
    return np.asarray(uniform_filter1d(least, around, axis=0, mode="nearest"))


def _left(path: CameraPath) -> Floats:
    """The same as it is, below 0 where the window reaches beyond."""
    border = path.size.border(STEP)
    left = np.zeros((len(path), 4))
    for place, window in enumerate(recentred(path.windows(), path.size)):
        found = _source(path, place, transform(window, border))
        most = (path.size.width - 0.5, path.size.height - 0.5)
        left[place] = [*(found.min(0) + 0.5), *(most - found.max(0))]
    return left


def _source(path: CameraPath, place: int, points: Floats) -> Floats:
    """Points (P, 2) of a frame's window in its source."""
    if path.projected:
        assert path.stage is not None
        return path.stage.at(path.first + place).turned(path.homographies[place]).points(points)
    flat = transform(recentred(path.homographies[place], path.size), points)
    return flat if path.stage is None else path.stage.points(path.first + place, flat)
