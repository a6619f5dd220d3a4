"""Similarities and picture coordinates: identities that hold for any motion."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_horizon.core.geometry.picture import Size, resized, transform
from keen_horizon.core.geometry.similarity import Similarities, as_complex, as_points, fit_similarity

angles = st.floats(-3, 3)
scales = st.floats(0.3, 3)
shifts = st.floats(-500, 500)


@given(angles, scales, shifts, shifts)
def test_inverse_undoes(angle: float, scale: float, x: float, y: float) -> None:
    one = Similarities(np.array([scale * np.exp(1j * angle)]), np.array([complex(x, y)]))
    both = one @ one.inverse()
    assert abs(both.z[0] - 1) < 1e-12
    assert abs(both.t[0]) < 1e-9


def test_matrices_compose_like_similarities() -> None:
    random = np.random.default_rng(1)
    a = Similarities(random.normal(1, 0.1, 5) + 1j * random.normal(0, 0.1, 5), random.normal(0, 9, 5) + 2j)
    b = Similarities(random.normal(1, 0.1, 5) + 1j * random.normal(0, 0.1, 5), random.normal(0, 9, 5) - 3j)
    assert np.allclose((a @ b).matrices(), a.matrices() @ b.matrices())


def test_about_moves_the_origin() -> None:
    turn = Similarities(np.array([1j]), np.array([10 + 0j]))
    centred = turn.about(5 + 5j)
    point = np.array([7 + 1j])
    assert np.allclose(centred.apply(point - (5 + 5j)) + (5 + 5j), turn.apply(point))


def test_fit_recovers_a_motion_and_ignores_zero_weights() -> None:
    random = np.random.default_rng(2)
    source = as_complex(random.uniform(0, 100, (20, 2)))
    z, t = 1.02 * np.exp(0.1j), 3 - 4j
    target = z * source + t
    target[0] += 50
    weights = np.ones(20)
    weights[0] = 0
    found = fit_similarity(source, target, weights)
    assert found == pytest.approx((z, t))


def test_chain_accumulates_pairs() -> None:
    step = Similarities(np.full(3, 1 + 0j), np.full(3, 2 - 1j))
    poses = Similarities.chain(step)
    assert np.allclose(poses.t, -(2 - 1j) * np.arange(4))


@given(st.integers(2, 4000), st.integers(2, 4000), st.integers(2, 2000), st.integers(2, 2000))
def test_resizing_keeps_the_outer_corners(w: int, h: int, w2: int, h2: int) -> None:
    a, b = Size(w, h), Size(w2, h2)
    assert np.allclose(transform(resized(b, a), a.corners()), b.corners(), atol=1e-6)


def test_border_runs_along_width_and_height_in_their_order() -> None:
    border = Size(7, 3).border()
    assert border[:, 0].max() == 6.5
    assert border[:, 1].max() == 2.5


def test_points_round_trip() -> None:
    points = np.array([[1.0, 2.0], [3.0, -4.0]])
    assert np.array_equal(as_points(as_complex(points)), points)
