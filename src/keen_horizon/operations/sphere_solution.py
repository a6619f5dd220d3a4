"""A sphere's solved path as the interface draws it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.glass.shutter import Readout
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
    readout: Readout

    def to_json(self, known: str = "") -> dict[str, Any]:
        """Figures, curves, and for every frame where the delivered picture's rays lie in the clip's: `steadied` without
        the view, row-major 3x3, and the view's own figures, rad; `read_turns` is how far the camera turned, rad about
        its own axes, while its rows were read; `up` is where up is in the clip's picture. `known`
        names no table here.
        """
        path = self.path
        steadied = (path.measured.inv() * path.steadied).as_matrix()
        outlooks, looks = path.outlooks, path.looks()
        return {
            "first": path.first,
            "frames": len(path),
            "size": [path.sphere.size.width, path.sphere.size.height],
            "output": [path.size.width, path.size.height],
            "across": path.sphere.across,
            "measured": self.measured,
            "ledger": sphere_ledger(path).to_json(),
            "readout": self.readout.to_json(),
            "read_turns": path.read_turns.round(7).tolist(),
            "notes": self.notes,
            "up": None if self.up is None else self.up.round(5).tolist(),
            "pins": [pin.to_json() for pin in self.pins],
            "projection": None if outlooks is None else outlooks.projection,
            "outlooks": None if looks is None else looks.round(7).tolist(),
            "steadied": steadied.reshape(-1, 9).round(7).tolist(),
            "source_px": path.source_px.round(4).tolist(),
            "shake_before": turning_changes(path.measured).round(5).tolist(),
            "shake_after": np.asarray(turning_changes(path.steadied)).round(5).tolist(),
        }
