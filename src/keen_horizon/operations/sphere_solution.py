"""A sphere's solved path as the interface draws it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from keen_horizon.core.path.sphere.figures import sphere_ledger, turning_changes
from keen_horizon.core.path.sphere.sphere_path import SpherePath


@dataclass(frozen=True)
class SphereSolution:
    """What a path shows, says and costs."""

    path: SpherePath
    notes: tuple[str, ...]
    measured: bool

    def to_json(self, known: str = "") -> dict[str, Any]:
        """Figures, curves, and for every frame where the delivered picture's rays lie in the clip's: `steadied` without
        the view, row-major 3x3, and the view's own figures, rad; `known` names no table here.
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
            "projection": None if outlooks is None else outlooks.projection,
            "outlooks": None if outlooks is None else outlooks.figures.round(7).tolist(),
            "steadied": steadied.reshape(-1, 9).round(7).tolist(),
            "source_px": path.source_px.round(4).tolist(),
            "shake_before": turning_changes(path.measured).round(5).tolist(),
            "shake_after": np.asarray(turning_changes(path.steadied)).round(5).tolist(),
        }
