"""Fall-off told by something plain: the wall's own light parted from the glass, or doubted."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from keen_horizon.core.finding.falloff import FoundFalloff
from keen_horizon.core.finding.flat_field import falloff_of_plain
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.transfer import coded

ROWS, COLUMNS = 68, 120
HALF = np.hypot(ROWS, COLUMNS) / 2
X, Y = np.meshgrid((np.arange(COLUMNS) - (COLUMNS - 1) / 2) / HALF, (np.arange(ROWS) - (ROWS - 1) / 2) / HALF)


def told(glass: Falloff, slope: tuple[float, float], bend: float = 0.0, level: float = 0.45) -> FoundFalloff:
    """What a rough wall tells that is lit unevenly."""
    random = np.random.default_rng(3)
    rough = 1 + 0.02 * cv2.GaussianBlur(random.normal(size=X.shape), (0, 0), 1.5)
    wall = level * (1 + slope[0] * X + slope[1] * Y + bend * X * Y) * rough
    light = (wall * glass.gain(glass.squares(X, Y)) + random.normal(0, 0.001, X.shape)).astype(np.float32)
    return falloff_of_plain(coded(light, 1).astype(np.float32), light)


def off(found: FoundFalloff, glass: Falloff) -> np.ndarray:
    squares = found.falloff.squares(X, Y), glass.squares(X, Y)
    return np.abs(found.falloff.gain(squares[0]) - glass.gain(squares[1]))


@pytest.mark.parametrize("slope", [(0.0, 0.0), (0.2, -0.1), (0.4, 0.3)])
@pytest.mark.parametrize(
    "glass", [Falloff((-0.6, 0.05), 0.03 - 0.02j), Falloff((-0.1, -0.3, -0.05), -0.03 + 0.04j), Falloff((0.0,))]
)
def test_a_wall_that_is_brighter_on_one_side_is_parted_from_the_glass(
    glass: Falloff, slope: tuple[float, float]
) -> None:
    found = told(glass, slope)
    wrong = off(found, glass)
    print(f"off by {100 * wrong.mean():.2f} % mean, {100 * wrong.max():.2f} % worst; said {100 * found.doubt:.2f} %")
    assert found.enough
    assert wrong.mean() <= 0.005
    assert wrong.max() <= max(0.015, 2 * found.doubt)


def test_a_wall_that_bends_is_doubted() -> None:
    glass = Falloff((-0.4,))
    assert told(glass, (0.1, 0.0)).doubt < told(glass, (0.1, 0.0), bend=0.06).doubt
    assert not told(glass, (0.1, 0.0), bend=0.06).enough


def test_what_is_not_plain_or_not_readable_tells_nothing() -> None:
    assert not told(Falloff((-0.4,)), (0.0, 0.0), level=0.001).enough
    assert not told(Falloff((-0.4,)), (0.0, 0.0), level=3.0).enough
    chequered = np.where((np.indices((ROWS, COLUMNS)) // 6).sum(0) % 2, 0.2, 0.5).astype(np.float32)
    assert not falloff_of_plain(coded(chequered, 1).astype(np.float32), chequered).enough
