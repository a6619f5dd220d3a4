"""A path's mesh, and what it is worth."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from keen_horizon.core.geometry.mesh import MeshOverTime, stretch_of
from keen_horizon.core.geometry.similarity import Floats


@dataclass(frozen=True, eq=False)
class Bending:
    """The mesh of N frames; and by how many px of the source points move apart unsteadily at every pair (N - 1), RMS,
    beside one plane, and with the mesh.
    """

    mesh: MeshOverTime
    apart: Floats
    left: Floats

    @cached_property
    def largest(self) -> float:
        """How far the mesh moves anything at most, px."""
        return float(self.mesh.largest.max(initial=0.0))

    @property
    def apart_px(self) -> float:
        """By how much points move apart over all pairs, RMS."""
        return _rms(self.apart)

    @property
    def left_px(self) -> float:
        """The same, with the mesh."""
        return _rms(self.left)

    @cached_property
    def stretch(self) -> float:
        """By how much it changes any length at most."""
        return float(stretch_of(np.asarray(self.mesh.controls, np.float64), self.mesh.grid).max(initial=0.0))


def _rms(values: Floats) -> float:
    return float(np.sqrt((values**2).mean())) if len(values) else 0.0
