"""Perspective: fitting it, joining it over time, and what allowing it is worth."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
import pytest
from truth import SMALL, rms
from walks import HD, moved, treated, walked

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex
from keen_horizon.core.geometry.tilt import fit_tilts, tilt_matrices, tilted
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.path.tilting import tilt_corrections
from keen_horizon.core.path.wish import wish_for
from keen_horizon.core.treatment.motion import Motion
from keen_horizon.simulator.plane import jitter, town_picture


def grid(size: Size) -> np.ndarray:
    x, y = np.meshgrid(np.linspace(-0.5, 0.5, 17) * size.width, np.linspace(-0.5, 0.5, 9) * size.height)
    return (x + 1j * y).ravel()


def alone(source: Complex, moved: Complex, weight: float, spread: float) -> tuple[complex, complex, complex]:
    """The fit of one set of points."""
    weights, expected = np.full((1, len(source)), weight), np.zeros(1, np.complex128)
    dz, dt, tilt = fit_tilts(source[None], moved[None], weights, HD, expected, spread)
    return complex(dz[0]), complex(dt[0]), complex(tilt[0])


def test_matrices_and_points_are_one_map() -> None:
    tilts = np.array([2e-5 - 3e-5j, 0j])
    points = grid(HD)
    rows = tilt_matrices(tilts, HD) @ np.stack([points.real, points.imag, np.ones(len(points))])
    assert tilted(tilts, points, HD) == pytest.approx((rows[:, 0] + 1j * rows[:, 1]) / rows[:, 2], abs=1e-9)


def test_a_tilt_leaves_the_best_similarity_alone() -> None:
    points = grid(HD)
    change = tilted(np.array([4e-6 + 6e-6j]), points, HD)[0] - points
    assert abs(change.mean()) < 0.05 * np.abs(change).max()
    assert abs((np.conj(points) * change).sum() / (np.abs(points) ** 2).sum()) < 1e-5


def test_fit_finds_tilt_and_similarity_together() -> None:
    points = grid(HD)
    z, t, tilt = 1.001 + 0.002j, 0.4 - 0.3j, 6e-6 - 9e-6j
    moved_points = z * tilted(np.array([tilt]), points, HD)[0] + t
    dz, dt, found = alone(points, moved_points, 400.0, 1e-5)
    assert found == pytest.approx(tilt, abs=3e-8)
    assert 1 + dz == pytest.approx(z, abs=3e-5)
    assert dt == pytest.approx(t, abs=0.01)


def test_few_points_give_no_wild_tilt() -> None:
    points = np.array([0, 5, 5j, 5 + 5j])
    _, _, tilt = alone(points, points + np.array([0.3, -0.2, 0.1, 0.2j]), 100.0, 1e-6)
    assert abs(tilt) < 2e-6


@pytest.fixture(scope="module")
def tilting() -> tuple[MotionTracker, np.ndarray, np.ndarray]:
    """A standing camera that shakes by similarities and tilts: its measurement, true matrices and tilts."""
    count = 60
    random = np.random.default_rng(4)
    poses = jitter(count, SMALL, 4.0, seed=4)
    tilts = random.normal(0, 2.5e-5, count) + 1j * random.normal(0, 2.5e-5, count)
    tilts[0] = 0
    move = np.array([[1, 0, SMALL.centre.real], [0, 1, SMALL.centre.imag], [0, 0, 1]])
    matrices = poses.matrices() @ move @ tilt_matrices(tilts, SMALL) @ np.linalg.inv(move)
    tracker = MotionTracker.start(SMALL)
    town = cv2.cvtColor(town_picture(), cv2.COLOR_BGR2GRAY)
    for number, matrix in enumerate(matrices):
        seen = cv2.warpPerspective(town, matrix, (640, 360), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP)
        tracker.add(cv2.add(seen, random.normal(0, 1.5, seen.shape), dtype=cv2.CV_8U), number / 30)
    return tracker, matrices, tilts


def test_tilts_are_measured(tilting) -> None:
    tracker, _, tilts = tilting
    found = tracker.finish(0).tilts
    error = rms(np.abs(found - found.mean() - tilts + tilts.mean()))
    print(f"tilt error at a corner {error * SMALL.half_diagonal**2:.3f} px of {2.5e-5 * SMALL.half_diagonal**2:.2f}")
    assert error < 0.1 * 2.5e-5


def test_holding_with_tilt_leaves_less_at_the_corners(tilting) -> None:
    tracker, matrices, _ = tilting
    measurement = tracker.finish(0)
    corners = np.c_[SMALL.corners(), np.ones(4)].T
    left = {}
    for freedom in (["shift", "turn", "size"], ["shift", "turn", "size", "tilt"]):
        path = treated(measurement, {"intent": "hold", "freedom": freedom}, {"way": "leave"})
        seen = matrices @ path.matrices() @ corners
        places = (seen[:, 0] + 1j * seen[:, 1]) / seen[:, 2]
        left[len(freedom)] = rms(np.abs(places - np.median(places.real, 0) - 1j * np.median(places.imag, 0)))
    print("corner wobble without and with tilt:", left)
    assert left[4] < 0.35 * left[3]


def test_tilt_is_smoothed_and_bounded() -> None:
    measurement = walked(120, 5)
    poses = measurement.poses.about(HD.centre)
    wish = wish_for(poses, Motion(), ("shift", "turn", "size", "tilt"), HD, 0, 30.0)
    free = tilt_corrections(measurement.tilts, poses.z, wish, HD)
    after = np.diff((measurement.tilts + free) / np.conj(poses.z), 2)
    assert rms(np.abs(after)) < 0.3 * rms(np.abs(np.diff(measurement.tilts, 2)))
    room = 0.3 * np.abs(free).max() * HD.half_diagonal
    bound = tilt_corrections(measurement.tilts, poses.z, wish, HD, room)
    assert np.abs(bound).max() * HD.half_diagonal <= room * (1 + 1e-3)
    assert np.abs(tilt_corrections(measurement.tilts, poses.z, wish, HD, 0.0)).max() == 0


def test_without_the_freedom_nothing_tilts() -> None:
    path = treated(walked(60, 1))
    assert np.abs(path.tilt).max() < 1e-15
    assert path.matrices()[:, 2, :2] == pytest.approx(0)


def test_the_same_poses_give_the_same_path_with_no_tilt_measured() -> None:
    measurement = walked(60, 2)
    flat = replace(moved(measurement, measurement.poses), tilts=np.zeros(60, complex))
    one = treated(flat, {"freedom": ["shift", "turn", "size", "tilt"]})
    assert one.matrices() == pytest.approx(treated(measurement).matrices(), abs=1e-6)
