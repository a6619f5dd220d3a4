"""What edges that may be straight in the world add to what the motion tells of the lens."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keen_horizon.core.finding.lens_by_motion.belief import CORRELATED
from keen_horizon.core.finding.lens_by_motion.camera import TurningCamera
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.robust import tukey, tukey_loss
from keen_horizon.core.geometry.similarity import Floats
from keen_horizon.core.lens.plumb_lines import LineProblem

EDGE_PX = 0.35  # RMS, at 1280 wide, by which an edge that is straight seems bent: half of what one may to agree


@dataclass(frozen=True)
class StraightEdges:
    """Edges' points, each (P, 2) display pixels. One that no lens straightens counts less and less."""

    edges: list[Floats]
    size: Size

    def cost(self, camera: TurningCamera) -> float:
        """How badly a camera's lens straightens them."""
        problem, bends, spread = self._bent(camera)
        return float((tukey_loss(bends, spread) * problem.there.sum(1)).sum()) / CORRELATED**2

    def normal(self, camera: TurningCamera) -> tuple[Floats, Floats]:
        """The normal matrix (S, S) and right-hand side (S,) of the lens's shape."""
        problem, bends, spread = self._bent(camera)
        errors, slopes = problem.given(camera.lens).errors, problem.slopes(camera.lens)
        weights = tukey(bends, spread)[:, None] * problem.there / (CORRELATED * spread) ** 2
        normal = np.einsum("slp,lp,tlp->st", slopes, weights, slopes)
        return normal, -np.einsum("slp,lp,lp->s", slopes, weights, errors)

    def _bent(self, camera: TurningCamera) -> tuple[LineProblem, Floats, float]:
        """How far each edge is bent with a camera's lens, px, and by how much a straight one may be."""
        problem = LineProblem(self.edges, self.size, 1.0)
        bends = np.array(problem.per_line(problem.given(camera.lens)))
        return problem, bends, EDGE_PX * self.size.width / 1280
