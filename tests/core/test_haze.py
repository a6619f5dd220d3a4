"""Coloured haze along bright edges: taken where it is, and nowhere else."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from stored import stored
from truth import SMALL

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Tags
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment.document import Treatment

TAGS = Tags(1, 1, 1, 1, 1)
PURPLE, GREEN = (0.55, 0.2, 0.7), (0.2, 0.6, 0.2)
EDGE = 320  # a dark wall to the left of it, a bright sky to the right


def scene() -> np.ndarray:
    """R, G, B: a wall before a sky with two px of purple along its edge, a purple and a green thing within the wall."""
    picture = np.full((SMALL.height, SMALL.width, 3), 0.12, np.float32)
    picture[:, EDGE:] = 0.95
    picture[:, EDGE - 2 : EDGE] = PURPLE
    picture[100:200, 60:160] = PURPLE
    picture[220:300, EDGE - 2 : EDGE] = GREEN
    return picture


def cleared(amount: float, depth: int, chroma: str) -> list[np.ndarray]:
    document = Treatment.from_json({"optics": {"fringe": {"haze": {"amount": amount}}}, "motion": {"intent": None}})
    path = solve_path(Measurement.still(SMALL, 0, np.zeros(1)), document)
    warper = Warper(path, SMALL, output_frame(path, document, SMALL, Fraction(1)), WrittenChroma(chroma), document)
    return list(warper.warp(Frame(0, Fraction(0), stored(scene(), depth, TAGS, chroma), depth, TAGS)).planes)


@pytest.mark.parametrize(("depth", "chroma"), [(8, "444"), (10, "444"), (8, "420")])
def test_it_goes_from_the_edge_and_nothing_else_changes(depth: int, chroma: str) -> None:
    before, after = cleared(0.0, depth, chroma), cleared(1.0, depth, chroma)
    middle, unit = 128 << (depth - 8), 1 << (depth - 8)
    fine = 1 if chroma == "444" else 2
    column, rows = EDGE // fine - 1, slice(20 // fine, 90 // fine)
    assert (after[0] == before[0]).all()
    for one, other in zip(after[1:], before[1:], strict=True):
        assert one.dtype == other.dtype
        left, was = (np.abs(plane[rows, column].astype(float) - middle).mean() / unit for plane in (one, other))
        assert was > 8
        assert left < 0.2 * was
        flat = slice(100 // fine, 200 // fine), slice(60 // fine, 160 // fine)
        assert (one[flat] == other[flat]).all()  # a purple thing stays purple, to its border
        other_hue = slice(230 // fine, 290 // fine), column
        assert np.abs(one[other_hue].astype(int) - other[other_hue]).max() <= unit
    half = cleared(0.5, depth, chroma)
    shares = [np.abs(planes[1][rows, column].astype(float) - middle).mean() for planes in (before, half, after)]
    assert shares[1] == pytest.approx((shares[0] + shares[2]) / 2, abs=unit)


def test_the_document_says_what_cannot_be() -> None:
    for wrong in ({"amount": 1.5}, {"hue_deg": 400}, {"width_deg": 1}, {"reach": 3}):
        with pytest.raises(TreatmentError, match=r"optics\.fringe\.haze"):
            Treatment.from_json({"optics": {"fringe": {"haze": wrong}}})


def test_without_haze_nothing_is_touched() -> None:
    frame = Frame(0, Fraction(0), stored(scene(), 8, TAGS), 8, TAGS)
    document = Treatment.from_json({"optics": {"fringe": {"haze": {"hue_deg": 10}}}, "motion": {"intent": None}})
    path = solve_path(Measurement.still(SMALL, 0, np.zeros(1)), document)
    warper = Warper(path, SMALL, output_frame(path, document, SMALL, Fraction(1)), WrittenChroma("420"), document)
    warped = warper.warp(frame)
    assert all((one == other).all() for one, other in zip(warped.planes, frame.planes, strict=True))
