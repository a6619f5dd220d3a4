"""A clip's lens by itself: by how its points moved and by what is straight in it, each telling what the other cannot.

Straight things know no focal length, and there may be none; the motion tells nothing where the camera hardly turned or
what it sees is too near. The motion is asked first, then with the edges that agree with it; where it alone is not sure,
the lens that straight things tell is where it begins, and they count from the first.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.linalg import LinAlgError

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.lens_by_motion.camera import TurningCamera
from keen_horizon.core.finding.lens_by_motion.judging import LensByMotion, judged_by_motion
from keen_horizon.core.finding.lens_by_motion.points import TurnedPoints, turned_points
from keen_horizon.core.finding.lens_by_motion.search import Found, refined, searched
from keen_horizon.core.finding.lens_by_motion.straight_things import StraightEdges
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import (
    LEAST_LINES,
    MOST_LINES,
    AutomaticLens,
    Edge,
    agreeing_edges,
    automatic_lens,
)
from keen_horizon.core.lens.doubt import bent_px
from keen_horizon.core.lens.lens import NO_LENS, Lens
from keen_horizon.core.lens.stage import USUAL_FOCAL
from keen_horizon.core.motion.measurement import Measurement

By = Literal["edges", "motion", "both"]


@dataclass(frozen=True)
class OwnLens:
    """The lens, its focal length, half-diagonals, where that is told, what it was found `by`, the edges that agree,
    and how sure it is, 0 ... 1.
    """

    lens: Lens
    focal: float | None
    by: By
    edges: tuple[Edge, ...]
    confidence: float

    def bends_px(self, size: Size) -> float:
        """How far straight things are bent as shot, RMS px at 1000 px wide."""
        bent = NO_LENS if self.lens.plain else self.lens
        return bent_px(bent, size) * 1000 / size.width


def own_lens(
    edges: list[Edge], size: Size, measurement: Measurement | None, between: Callable[[], None] = lambda: None
) -> OwnLens:
    """The lens that a clip's edges and its measured motion tell; `between` is called some `TRIALS` times on the way.

    Raises LensError saying why there is none.
    """
    by_lines, refusal = _by_lines(edges, size)
    points = turned_points(measurement) if measurement is not None and not measurement.sphere else None
    if points is not None:
        assert measurement is not None
        by_motion = _by_motion(points, measurement, edges, by_lines, between)
        if isinstance(by_motion, OwnLens):
            return by_motion
        refusal = f"{by_motion} {refusal}"
    if by_lines is None:
        raise LensError(refusal.strip())
    return OwnLens(by_lines.lens, None, "edges", by_lines.edges, by_lines.confidence)


def _by_lines(edges: list[Edge], size: Size) -> tuple[AutomaticLens | None, str]:
    """The lens by what is straight, or why there is none."""
    try:
        return automatic_lens(edges, size), ""
    except LensError as error:
        return None, str(error)


def _by_motion(
    points: TurnedPoints,
    measurement: Measurement,
    edges: list[Edge],
    by_lines: AutomaticLens | None,
    between: Callable[[], None],
) -> OwnLens | str:
    """The lens by the motion, with what is straight where that helps; or why there is none."""
    size = measurement.size
    readout = measurement.readout.frames if measurement.readout.enough else 0.0
    try:
        found = searched(points, readout, between=between)
        told = judged_by_motion(found, size)
        if told.sure:
            return _with_edges(points, found, told, edges, size)
        if by_lines is not None:
            begun = _begun_with(by_lines.lens)
            straight = StraightEdges([edge.points for edge in by_lines.edges], size)
            again = searched(points, readout, near=begun, lines=straight, between=between)
            both = judged_by_motion(again, size)
            if both.sure:
                return OwnLens(both.lens, both.told_focal, "both", by_lines.edges, both.confidence)
    except LinAlgError:
        return "The motion tells no lens."
    except LensError as error:
        return str(error)
    return told.refusal()


def _with_edges(points: TurnedPoints, found: Found, told: LensByMotion, edges: list[Edge], size: Size) -> OwnLens:
    """The lens that the motion told for sure, made better by the edges that agree with it, where there are enough."""
    agreeing = agreeing_edges(edges, told.lens, size)[:MOST_LINES] if edges else []
    if len(agreeing) < LEAST_LINES:
        return OwnLens(told.lens, told.told_focal, "motion", tuple(agreeing), told.confidence)
    straight = StraightEdges([edge.points for edge in agreeing], size)
    both = judged_by_motion(refined(points, found, straight), size)
    if not both.sure:
        return OwnLens(told.lens, told.told_focal, "motion", (), told.confidence)
    return OwnLens(both.lens, both.told_focal, "both", tuple(agreeing), both.confidence)


def _begun_with(lens: Lens) -> TurningCamera:
    """A camera behind a lens that straight things told, its focal length a usual one unless the lens is a fisheye."""
    focal = float(lens.k[0] ** -0.5) if lens.kind.angular and lens.k[0] > 0 else USUAL_FOCAL
    camera = TurningCamera.standing(lens.family, np.array(lens.k or (0.0,)), focal)
    return replace(camera, centre=lens.centre)
