"""Solving: containment, limits, optimality, and what each intent promises, over any motion."""

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from scipy.optimize import minimize as reference_minimise
from walks import HD, moved, treated, walked

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.path.banded import BandedProgram, banded_product, minimise, minimise_free
from keen_horizon.core.path.figures import shake
from keen_horizon.core.path.ledger import ledger, pinch_points
from keen_horizon.core.path.window import centred_corners, gap_areas, kept_areas, window_zoom

subsets = st.sets(st.sampled_from(["shift", "turn", "size"]), min_size=1).map(sorted)
intents = st.sampled_from(["glide", "hold"])


@hypothesis_settings(max_examples=60)
@example(27, 219, 3.0, "hold", ["shift", "turn"], 1.15625)
@given(st.integers(2, 90), st.integers(0, 10**6), st.floats(0.1, 3), intents, subsets, st.floats(1.0, 1.6))
def test_window_stays_inside_and_zoom_inside_the_limit(
    count: int, seed: int, strength: float, intent: str, freedom: list[str], limit: float
) -> None:
    path = treated(walked(count, seed, strength), {"intent": intent, "freedom": freedom}, {"zoom_limit": limit})
    sampling = frame_map(path)
    assert max(border_overhang(sampling, frame) for frame in range(count)) <= 0.01
    assert path.zoom.max() <= limit + 1e-9


@hypothesis_settings(max_examples=25)
@given(st.integers(0, 10**6), intents, subsets)
def test_what_is_not_allowed_stays_as_shot(seed: int, intent: str, freedom: list[str]) -> None:
    path = treated(walked(60, seed), {"intent": intent, "freedom": freedom}, {"zoom_limit": 1.08})
    correction = path.correction.z
    if "size" not in freedom:
        assert np.ptp(path.zoom) < 1e-4
    if "turn" not in freedom:
        assert np.abs(np.angle(correction)).max() < 1e-9
    if "shift" not in freedom:
        assert np.abs(path.correction.t).max() < 1e-9


def test_hold_stands_still_when_the_limit_allows_it() -> None:
    path = treated(walked(120, 1, pan=0.0), {"intent": "hold"}, {"zoom_limit": 2.0})
    assert not path.limited
    assert ledger(path).shake_after_px < 1e-6
    assert np.ptp(np.abs(path.steadied.poses.t)) < 1e-6


def test_hold_gives_way_to_the_limit_and_says_so() -> None:
    path = treated(walked(120, 1, pan=3.0), {"intent": "hold"}, {"zoom_limit": 1.05})
    assert path.limited
    assert ledger(path).wanted_zoom > 1.05
    assert path.zoom.max() <= 1.05 + 1e-9


def test_response_time_is_the_period_at_which_half_of_a_movement_is_kept() -> None:
    count, rate, response = 900, 30, 2.0
    swing = 10 * np.sin(2 * np.pi * np.arange(count) / (rate * response))
    measurement = walked(count, 0, 0.0, pan=0.0)
    poses = Similarities(np.ones(count, complex), swing.astype(complex))
    path = treated(moved(measurement, poses), {"response_s": response}, {"way": "leave"})
    kept = path.steadied.poses.t.real[200:700]
    assert np.ptp(kept) / np.ptp(swing) == pytest.approx(0.5, abs=0.02)


def test_a_steady_pan_is_left_alone() -> None:
    measurement = walked(200, 0, 0.0, pan=6.0)
    path = treated(measurement)
    assert path.zoom.max() < 1.001


def test_no_intent_changes_nothing() -> None:
    path = treated(walked(30, 3), {"intent": None})
    assert np.array_equal(path.matrices(), np.repeat(np.eye(3)[None], 30, axis=0))
    assert ledger(path).kept_area == 1.0
    assert pinch_points(path, 30) == []


def test_longer_response_is_steadier_and_dearer() -> None:
    measurement = walked(300, 4)
    short, long = (treated(measurement, {"response_s": s}, {"zoom_limit": 3}) for s in (0.4, 2.0))
    assert shake(long.steadied.poses, HD) < shake(short.steadied.poses, HD)
    assert long.zoom.max() > short.zoom.max()


def test_leave_keeps_the_size_and_counts_the_gap() -> None:
    path = treated(walked(60, 5), {"freedom": ["shift", "turn"]}, {"way": "leave"})
    assert path.zoom == pytest.approx(1.0, abs=1e-4)
    assert ledger(path).gap_area > 0


def test_one_bad_moment_is_the_pinch_point() -> None:
    measurement = walked(200, 6, 0.2)
    t = measurement.poses.t.copy()
    t[120:124] += 90
    path = treated(moved(measurement, Similarities(measurement.poses.z, t)), {}, {"zoom_limit": 1.05})
    found = pinch_points(path, 30)
    assert abs(found[0] - 121) <= 4


def test_window_zoom_by_hand() -> None:
    shifted = Similarities(np.array([1 + 0j]), np.array([64 + 0j]))
    assert window_zoom(shifted, HD)[0] == pytest.approx(640 / (640 - 64))
    assert np.isinf(window_zoom(Similarities(np.array([1 + 0j]), np.array([700 + 0j])), HD)[0])


def test_kept_area_is_the_windows_share_and_respects_the_frame() -> None:
    half = Similarities(np.array([0.5 + 0j, 1 + 0j]), np.array([0j, 640 + 0j])).apply(centred_corners(HD))
    assert gap_areas(half, HD) == pytest.approx([0, 0.5], abs=1e-5)
    assert kept_areas(half, HD) == pytest.approx([0.25, 0.5], abs=1e-5)


def random_program(seed: int, count: int = 12, k: int = 2) -> BandedProgram:
    random = np.random.default_rng(seed)
    dense = np.zeros((count * k, count * k))
    for lag in range(2 * k):
        values = random.normal(0, 0.3, count * k - lag)
        dense += np.diag(values, -lag) + (np.diag(values, lag) if lag else 0)
    dense = dense @ np.eye(count * k)
    dense += np.eye(count * k) * (np.abs(dense).sum(1).max() + 0.5)
    bands = np.array([np.r_[np.diag(dense, -lag), np.zeros(lag)] for lag in range(2 * k)])
    rows, scale = random.normal(0, 1, (5, k)), random.uniform(0.3, 1.0, count)
    return BandedProgram(bands, random.normal(0, 8, count * k), rows, scale, random.uniform(0.1, 1.0, (count, 5)))


def objective(program: BandedProgram, x: np.ndarray) -> float:
    return float(0.5 * x @ banded_product(program.hessian, x) - program.linear @ x)


@pytest.mark.parametrize("seed", range(4))
def test_interior_point_agrees_with_a_general_solver(seed: int) -> None:
    program = random_program(seed)
    count, k = len(program.scale), program.rows.shape[1]
    found = minimise(program, np.zeros((count, k))).ravel()
    reference = reference_minimise(
        lambda x: objective(program, x),
        np.zeros(count * k),
        jac=lambda x: banded_product(program.hessian, x) - program.linear,
        constraints={
            "type": "ineq",
            "fun": lambda x: (program.bound - program.left(x.reshape(count, k))).ravel(),
        },
        method="SLSQP",
        options={"maxiter": 400, "ftol": 1e-12},
    )
    assert objective(program, found) == pytest.approx(reference.fun, rel=1e-3)
    assert objective(program, found) <= reference.fun + 1e-3 * abs(reference.fun)
    assert (program.left(found.reshape(count, k)) - program.bound).max() < 1e-6


def test_free_minimum_has_no_gradient() -> None:
    program = random_program(9)
    x = minimise_free(program).ravel()
    assert np.abs(banded_product(program.hessian, x) - program.linear).max() < 1e-9
