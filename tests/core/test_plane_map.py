"""Where samples come from, laid out as a whole and some rows at a time."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from keen_horizon.core.mapping.frame_map import Maps, PlaneMap, meshed_map, planar_map
from keen_horizon.core.render.resample import ROWS, resampled

SHAPE = (2 * ROWS + 13, 53)  # no whole number of cells, nor of the rows that are worked on at a time


def bent(points: np.ndarray) -> np.ndarray:
    """A smooth map that is no plane transform."""
    return points * 1.02 + 3 * np.sin(points[:, ::-1] / 40) - 1.5


MAPS = {
    "meshed": meshed_map(bent, SHAPE),
    "planar": planar_map(np.array([[1.1, 0.02, -3], [-0.01, 0.9, 2], [0, 0, 1]]), SHAPE),
    "tilted": planar_map(np.array([[1.1, 0.02, -3], [-0.01, 0.9, 2], [1e-4, -2e-4, 1]]), SHAPE),
}


@pytest.mark.parametrize("through", MAPS.values(), ids=MAPS.keys())
@pytest.mark.parametrize("step", [5, 8, ROWS])
def test_rows_are_those_of_the_whole(through: PlaneMap, step: int) -> None:
    parts = [through.rows(first, min(step, SHAPE[0] - first)) for first in range(0, SHAPE[0], step)]
    for axis in (0, 1):
        assert through.whole[axis].shape == SHAPE
        np.testing.assert_allclose(np.concatenate([part[axis] for part in parts]), through.whole[axis], atol=1e-4)


def test_a_plane_transform_puts_samples_where_it_says() -> None:
    x, y = MAPS["tilted"].whole
    depth = 1 + 1e-4 * 17 - 2e-4 * 31
    assert x[31, 17] == pytest.approx((1.1 * 17 + 0.02 * 31 - 3) / depth, abs=1e-4)
    assert y[31, 17] == pytest.approx((-0.01 * 17 + 0.9 * 31 + 2) / depth, abs=1e-4)


def test_a_ramp_stays_one_at_every_phase() -> None:
    """Across and down, also where the rows that are worked on at a time meet."""
    ramp = np.add.outer(2.0 * np.arange(200), 3.0 * np.arange(80)).astype(np.float32)
    x, y = MAPS["meshed"].whole
    inside = (x > 1) & (x < 77) & (y > 1) & (y < 197)
    (seen,) = resampled([ramp], MAPS["meshed"], cv2.BORDER_REPLICATE)
    off = np.abs(seen - (2 * y + 3 * x))[inside]
    assert inside.sum() > 5000
    assert off.max() < 0.0018 * 5 + 0.001


def test_what_is_worked_out_as_a_whole_is_not_worked_out_again() -> None:
    asked = []

    def worked_out(first: int, count: int) -> Maps:
        asked.append(count)
        return np.full((count, 4), first, np.float32), np.zeros((count, 4), np.float32)

    through = PlaneMap((32, 4), worked_out)
    through.rows(8, 8)
    assert through.whole[0].shape == (32, 4)
    assert through.rows(16, 8)[0].shape == (8, 4)
    assert asked == [8, 32]
