"""Dead edges found in how bright the frame ever became: where, how softly, and when there is none to tell."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from keen_horizon.core.finding.dead import ever_bright, found_dead
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.transfer import coded
from keen_horizon.core.treatment.found import with_dead_edge

ROWS, COLUMNS = 270, 480
HALF = np.hypot(ROWS, COLUMNS) / 2
X, Y = np.meshgrid(np.arange(COLUMNS) - (COLUMNS - 1) / 2, np.arange(ROWS) - (ROWS - 1) / 2)
PLACES = (X + 1j * Y) / HALF
CORNERS = np.array([-1, 1, 1, -1]) * COLUMNS / 2 / HALF + 1j * np.array([-1, -1, 1, 1]) * ROWS / 2 / HALF


def lit(edge: DeadEdge, seed: int = 0, corners: float = 0.6) -> tuple[np.ndarray, np.ndarray]:
    """How bright, coded and as light, an uneven scene became behind an edge and glass that falls off."""
    random = np.random.default_rng(seed)
    scene = 0.5 + 0.3 * cv2.resize(random.random((8, 12)), (COLUMNS, ROWS), interpolation=cv2.INTER_CUBIC)
    light = scene * edge.light(PLACES) * Falloff((corners - 1,)).gain(np.abs(PLACES) ** 2) + random.normal(
        0, 0.002, scene.shape
    )
    light = np.maximum(light, 0).astype(np.float32)
    return coded(light, 1).astype(np.float32), light


def furthest_off(found: DeadEdge, true: DeadEdge) -> float:
    curve = np.concatenate(true.curves())
    seen = (np.abs(curve.real) < CORNERS.real.max()) & (np.abs(curve.imag) < CORNERS.imag.max())
    return float(np.abs(found.room(curve[seen & (np.abs(true.room(curve)) < 1e-6)])).max())


@pytest.mark.parametrize(
    "edge",
    [
        DeadEdge(0.88, 0.03 - 0.02j, softness=0.02),
        DeadEdge(0.8, 0.0j),
        DeadEdge(0.9, -0.02 + 0.03j, softness=0.12),
        DeadEdge(None, 0j, ((0.03, 0.8), (-np.pi / 2 - 0.02, 0.43)), softness=0.03),
        DeadEdge(None, 0j, ((np.pi / 4, 0.8),), softness=0.01),
        DeadEdge(None, 0j, ((-np.pi + 1e-4, 0.7),), softness=0.01),
        DeadEdge(0.9, 0.01j, ((np.pi / 2, 0.44),), softness=0.04),
        DeadEdge(None, 0j, ((-np.pi / 2, 0.4), (np.pi / 2, 0.4))),
    ],
    ids=["round", "sharp", "soft", "hood", "corner", "left", "both", "bars"],
)
@pytest.mark.parametrize("seed", [0, 1])
def test_an_edge_is_found_to_a_hundredth_of_the_half_diagonal(edge: DeadEdge, seed: int) -> None:
    found = found_dead(*lit(edge, seed))
    assert found is not None
    off = furthest_off(found.edge, edge)
    print(f"off by {100 * off:.3f} % of the half-diagonal, said {100 * found.doubt:.3f} %")
    assert off < 0.01
    assert found.edge.softness == pytest.approx(edge.softness, abs=0.012)
    assert found.to_json()["doubt"] < 0.01
    assert with_dead_edge(None, found.to_json()).picture_ends is not None


def test_dark_corners_and_dark_things_are_not_dead() -> None:
    assert found_dead(*lit(DeadEdge(2.0), corners=0.1)) is None
    bright, light = lit(DeadEdge(2.0))
    bright[100:140, 200:260] = light[100:140, 200:260] = 0  # not at the border
    assert found_dead(bright, light) is None
    bright, light = lit(DeadEdge(2.0))
    for row in range(ROWS):  # a ragged dark thing that stands at the border
        wide = 30 + round(14 * np.sin(row / 9) + 12 * np.sin(row / 3.1))
        bright[row, :wide] = light[row, :wide] = 0
    assert found_dead(bright, light) is None
    night = np.full((ROWS, COLUMNS), 0.01, np.float32)
    night[60:200, 100:300] = 0.08
    assert found_dead(night, night) is None


@pytest.mark.parametrize("edge", [DeadEdge(0.5, softness=0.7), DeadEdge(0.55, 0.38 + 0j, softness=0.02)])
def test_what_no_treatment_takes_is_not_told(edge: DeadEdge) -> None:
    assert found_dead(*lit(edge)) is None


def test_a_flash_is_not_believed() -> None:
    cells = np.zeros((40, 4, 4), np.float32)
    cells[7] = 0.9
    assert ever_bright(cells).max() < 0.01
