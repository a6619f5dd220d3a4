"""Whether bending is worth while: where near and far move apart, how far a mesh would go, and what would be left."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter1d

from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.motion.matched import analysed_unit
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.bending.room import border_room, with_room
from keen_horizon.core.path.bending.solving import Unheld
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.treatment.edges import Edges
from keen_horizon.core.treatment.motion import FURTHEST_BEND_PX, Motion

MOSTLY = 98.0  # per cent of frames that an offered limit, whole px, leaves free
SEEN_PX = 0.15  # at 640 wide: what moves apart by less is how exactly points are followed
WORTH = 0.75  # of what moves apart may be left, for bending to be worth while
AROUND_S = 0.5  # over which a stretch is told
MOST_STRETCHES = 4


@dataclass(frozen=True)
class Stretch:
    """Frames `first` ... `last` of the clip in which points move apart by `px` a frame."""

    first: int
    last: int
    px: float


@dataclass(frozen=True)
class Offer:
    """Points move apart by `apart_px` a frame, `left_px` of which a mesh within `limit_px` would leave."""

    limit_px: float
    apart_px: float
    left_px: float
    stretches: tuple[Stretch, ...]
    worth: bool

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def offered(path: CameraPath, measurement: Measurement, motion: Motion, edges: Edges) -> Offer:
    """What bending would be for a path that was solved of a measurement; `motion` steadies the picture as a whole."""
    unheld = Unheld.of(path, measurement, motion)
    limit = float(np.clip(np.ceil(np.percentile(unheld.furthest, MOSTLY)), 1, FURTHEST_BEND_PX))
    roomy = with_room(path, unheld.outwards(limit), edges)
    bending = unheld.within(limit, border_room(roomy, measurement.rate))
    unit = analysed_unit(path.size)
    worth = bending.apart_px > SEEN_PX * unit and bending.left_px < WORTH * bending.apart_px
    stretches = _stretches(bending.apart, path.first, round(AROUND_S * measurement.rate), SEEN_PX * unit)
    return Offer(limit, bending.apart_px, bending.left_px, stretches if worth else (), worth)


def _stretches(apart: Floats, first: int, around: int, seen: float) -> tuple[Stretch, ...]:
    """Where points move apart by more than can be told, the worst first."""
    near = np.sqrt(uniform_filter1d(apart**2, 2 * around + 1, mode="nearest"))
    edges = np.flatnonzero(np.diff(np.r_[0, (near > seen).astype(np.int8), 0])).reshape(-1, 2)
    found = [
        Stretch(first + int(start), first + int(stop), float(np.sqrt((apart[start:stop] ** 2).mean())))
        for start, stop in edges
    ]
    return tuple(sorted(found, key=lambda stretch: -stretch.px)[:MOST_STRETCHES])
