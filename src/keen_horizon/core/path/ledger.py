"""What a path costs and gives, in the figures that editors see."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.path.borrowing import found_area
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.figures import lanes, shake, shake_per_frame
from keen_horizon.core.path.window import centred_corners

Floats = NDArray[np.float64]

PINCH_POINTS = 8
PINCH_SHARE = 0.8


@dataclass(frozen=True)
class Ledger:
    """`zoom` is the largest enlargement of the window and `mean_zoom` its mean, `kept_area` the mean share of
    the source shown, `sharpness` the share of the output's lines that the source can fill, `gap_area` the
    largest gap and `gap_frames` how many frames have one, `borrowed_area` the mean share of the output that
    comes from other frames. Shake is in px per frame squared, `_percent` of
    the width.

    Where the picture is bent, `bend_px` is how far at most, `bend_stretch` by what share lengths change at most, and
    points move apart by `apart_before_px` a frame, RMS, beside one plane, `apart_after_px` with the mesh; else 0.
    """

    zoom: float
    mean_zoom: float
    wanted_zoom: float
    limited: bool
    kept_area: float
    sharpness: float
    equals_width: int
    equals_height: int
    gap_area: float
    gap_frames: int
    borrowed_area: float
    shake_before_px: float
    shake_after_px: float
    shake_before_percent: float
    shake_after_percent: float
    worst_move_px: float
    bend_px: float
    bend_stretch: float
    apart_before_px: float
    apart_after_px: float
    lanes_before: dict[str, float]
    lanes_after: dict[str, float]

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def ledger(path: CameraPath, magnified: float = 1.0, shown: float = 1.0) -> Ledger:
    """The figures of a whole path; `magnified` is output pixels per pixel of the source, and `shown` the share of the
    source that its lens leaves in the frame.
    """
    size = path.size
    before, after = shake(path.measured.poses, size), shake(path.steadied.poses, size)
    zoom = float(path.zoom.max())
    corners = centred_corners(size)
    move = np.abs(path.steadied.poses.apply(corners) - path.measured.poses.apply(corners))
    gaps = open_areas(path)
    own, bending = path.gap_areas, path.bending
    return Ledger(
        zoom=zoom,
        mean_zoom=float(path.zoom.mean()),
        wanted_zoom=float(path.wanted_zoom.max()),
        limited=path.limited,
        kept_area=float(path.kept_areas.mean()) * shown,
        sharpness=min(1.0, 1 / (zoom * magnified)),
        equals_width=round(size.width / zoom),
        equals_height=round(size.height / zoom),
        gap_area=float(gaps.max()),
        gap_frames=int((gaps > 0).sum()),
        borrowed_area=float((own - gaps).mean()) if path.borrowed else 0.0,
        shake_before_px=before,
        shake_after_px=after,
        shake_before_percent=100 * before / size.width,
        shake_after_percent=100 * after / size.width,
        worst_move_px=float(move.max()),
        bend_px=bending.largest if bending else 0.0,
        bend_stretch=bending.stretch if bending else 0.0,
        apart_before_px=bending.apart_px if bending else 0.0,
        apart_after_px=bending.left_px if bending else 0.0,
        lanes_before=lanes(path.measured.poses, path.measured.tilts, size),
        lanes_after=lanes(path.steadied.poses, path.steadied.tilts, size),
    )


def open_areas(path: CameraPath) -> Floats:
    """The share of each output frame (N,) that stays without picture."""
    own = path.gap_areas
    if path.borrowed is None:
        return own
    lost = 1 - found_area(path.borrowed, path.size, path.shrink)
    return np.minimum(own, np.where(lost > 1e-4, lost, 0.0))


@dataclass(frozen=True)
class Pinch:
    """A stretch of frames that decides the zoom (clip numbering, inclusive), and its worst frame.

    `wanted` is the zoom asked for at `frame`; `without` is what would do if this stretch and the ones
    before it in order did not count.
    """

    frame: int
    first: int
    last: int
    wanted: float
    without: float


def pinches(path: CameraPath, rate: float) -> list[Pinch]:
    """The stretches whose demand decides the zoom, the most demanding first.

    A stretch is where the demand stays above half of its peak, and a sixth of a second beside its worst
    frame; stretches are listed while their peak is above 80 % of the largest.
    """
    demand = path.wanted_zoom - 1
    if not len(demand) or demand.max() < 1e-3:
        return []
    left = demand.copy()
    found: list[Pinch] = []
    beside = max(1, round(rate / 6))
    while len(found) < PINCH_POINTS and left.max() >= PINCH_SHARE * demand.max():
        frame = int(left.argmax())
        low = left < left[frame] / 2
        before, after = np.flatnonzero(low[:frame]), np.flatnonzero(low[frame:])
        first = min(int(before[-1]) + 1 if len(before) else 0, max(0, frame - beside))
        last = max(frame + int(after[0]) - 1 if len(after) else len(left) - 1, min(len(left) - 1, frame + beside))
        left[first : last + 1] = 0
        rest = 1 + max(0.0, float(left.max()))
        found.append(Pinch(path.first + frame, path.first + first, path.first + last, float(1 + demand[frame]), rest))
    return found


def pinch_points(path: CameraPath, rate: float) -> list[int]:
    """The worst frames of the pinches, the most demanding first."""
    return [pinch.frame for pinch in pinches(path, rate)]


def shake_curves(path: CameraPath) -> tuple[Floats, Floats]:
    """Shake per frame (N,) before and after, px per frame squared."""
    return shake_per_frame(path.measured.poses, path.size), shake_per_frame(path.steadied.poses, path.size)
