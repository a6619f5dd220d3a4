"""What a path costs and gives, in the figures that editors see."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.path.figures import lanes, shake, shake_per_frame
from keen_horizon.core.path.solve import CameraPath
from keen_horizon.core.path.window import centred_corners, gap_areas, kept_areas

Floats = NDArray[np.float64]

PINCH_POINTS = 8
PINCH_SHARE = 0.8


@dataclass(frozen=True)
class Ledger:
    """`zoom` is the largest enlargement, `kept_area` the mean share of the source shown, `softness`
    the share of its lines that is left after enlarging, `gap_area` the largest gap. Shake is in
    px per frame squared, `_percent` of the width.
    """

    zoom: float
    wanted_zoom: float
    limited: bool
    kept_area: float
    softness: float
    equals_width: int
    equals_height: int
    gap_area: float
    shake_before_px: float
    shake_after_px: float
    shake_before_percent: float
    shake_after_percent: float
    worst_move_px: float
    lanes_before: dict[str, float]
    lanes_after: dict[str, float]

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def ledger(path: CameraPath) -> Ledger:
    """The figures of a whole path."""
    size = path.size
    before, after = shake(path.measured, size), shake(path.steadied, size)
    zoom = float(path.zoom.max())
    corners = centred_corners(size)
    move = np.abs(path.steadied.apply(corners) - path.measured.apply(corners))
    return Ledger(
        zoom=zoom,
        wanted_zoom=float(path.wanted_zoom.max()),
        limited=path.limited,
        kept_area=float(kept_areas(path.src_from_out, size).mean()),
        softness=1 / zoom,
        equals_width=round(size.width / zoom),
        equals_height=round(size.height / zoom),
        gap_area=float(gap_areas(path.src_from_out, size).max()),
        shake_before_px=before,
        shake_after_px=after,
        shake_before_percent=100 * before / size.width,
        shake_after_percent=100 * after / size.width,
        worst_move_px=float(move.max()),
        lanes_before=lanes(path.measured, size),
        lanes_after=lanes(path.steadied, size),
    )


def pinch_points(path: CameraPath, rate: float) -> list[int]:
    """Frames (clip numbering) whose demand decides the zoom, the most demanding first.

    Peaks of the wanted zoom above 80 % of the largest demand, at least half a second apart.
    """
    demand = path.wanted_zoom - 1
    if not len(demand) or demand.max() < 1e-3:
        return []
    apart = max(1, round(rate / 2))
    chosen: list[int] = []
    for frame in np.argsort(-demand, kind="stable"):
        if demand[frame] < PINCH_SHARE * demand.max() or len(chosen) == PINCH_POINTS:
            break
        if all(abs(int(frame) - other) >= apart for other in chosen):
            chosen.append(int(frame))
    return [path.first + frame for frame in chosen]


def shake_curves(path: CameraPath) -> tuple[Floats, Floats]:
    """Shake per frame (N,) before and after, px per frame squared."""
    return shake_per_frame(path.measured, path.size), shake_per_frame(path.steadied, path.size)
