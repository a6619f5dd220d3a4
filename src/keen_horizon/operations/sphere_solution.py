"""A sphere's solved path as the interface draws it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.sphere.figures import sphere_ledger, turning_changes
from keen_horizon.core.path.sphere.sphere_path import SpherePath


@dataclass(frozen=True)
class SphereSolution:
    """What a path shows, says and costs."""

    path: SpherePath
    pins: tuple[PinTrack, ...]
    up: NDArray[np.float64] | None
    notes: tuple[str, ...]
    measured: bool

    def to_json(self, known: str = "") -> dict[str, Any]:
        """Figures, curves, and for every frame where the delivered picture's rays lie in the clip's: `steadied` without
        the view, row-major 3x3, and the view's own figures, rad; `up` is where up is in the clip's picture. `known`
        names no table here.
        """
        path = self.path
        steadied = (path.measured.inv() * path.steadied).as_matrix()
        outlooks = path.outlooks
        return {
            "first": path.first,
            "frames": len(path),
            "size": [path.sphere.size.width, path.sphere.size.height],
            "output": [path.size.width, path.size.height],
            "across": path.sphere.across,
            "measured": self.measured,
            "ledger": sphere_ledger(path).to_json(),
            "notes": self.notes,
            "up": None if self.up is None else self.up.round(5).tolist(),
            "pins": [pin.to_json() for pin in self.pins],
            "projection": None if outlooks is None else outlooks.projection,
            "outlooks": _looks(path),
            "steadied": steadied.reshape(-1, 9).round(7).tolist(),
            "source_px": path.source_px.round(4).tolist(),
            "shake_before": turning_changes(path.measured).round(5).tolist(),
            "shake_after": np.asarray(turning_changes(path.steadied)).round(5).tolist(),
        }


def _looks(path: SpherePath) -> list[list[float]] | None:
    """Yaw, pitch, roll and width, rad, of every frame, where anything is looked at."""
    if path.outlooks is not None:
        return path.outlooks.figures.round(7).tolist()
    if path.ahead is None:
        return None
    turned = path.ahead.as_euler("YXZ")
    return np.column_stack([turned, np.full(len(turned), 2 * np.pi)]).round(7).tolist()
