"""Bending: a mesh that lays near and far to rest, and never does what it may not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from staging import RATE, SIZE, cloth, measured, swaying, town, two_depths

from keen_horizon.core.geometry.mesh import Grid, MeshOverTime, stretch_of
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.staged import frame_map, lending_map
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.path.bending.holding import MOST_STRETCH, held
from keen_horizon.core.path.bending.offer import Offer, offered
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.staged import Sheet, laid_out, shape

COUNT = 70


@pytest.fixture(scope="module")
def sheets() -> list[Sheet]:
    return two_depths(COUNT)


@pytest.fixture(scope="module")
def measurement(sheets: list[Sheet]) -> Measurement:
    return measured(sheets)


def treated(limit: float, **edges: object) -> Treatment:
    return Treatment.model_validate({"motion": {"bend_limit_px": limit}, "edges": edges})


def offer(measurement: Measurement) -> Offer:
    """What bending would be with usual settings."""
    usual = treated(0)
    return offered(solve_path(measurement, usual), measurement, usual.motion, usual.edges)


def delivered(measurement: Measurement, sheet: Sheet, treatment: Treatment, rows: tuple[int, int]) -> np.ndarray:
    """Where a sheet's points that lie between `rows` of the middle frame are delivered: (N, P)."""
    sampling = frame_map(solve_path(measurement, treatment))
    x, y = np.meshgrid(np.linspace(100, 540, 9), np.linspace(*rows, 5))
    grid = np.column_stack([x.ravel(), y.ravel(), np.ones(x.size)])
    on_sheet = grid @ np.linalg.inv(sheet.frame_from_sheet[COUNT // 2]).T
    places = []
    for frame in range(COUNT):
        seen = on_sheet @ sheet.frame_from_sheet[frame].T
        wanted = seen[:, :2] / seen[:, 2:]
        found = wanted.copy()
        for _ in range(12):  # the map's inverse, by going back what it goes too far
            found += wanted - sampling.places(frame, found)
        places.append(as_complex(found))
    return np.asarray(places)


def shaking(places: np.ndarray) -> float:
    """RMS of second differences, px."""
    return float(np.sqrt((np.abs(np.diff(places, 2, axis=0)) ** 2).mean()))


def test_near_and_far_come_to_rest_together(measurement: Measurement, sheets: list[Sheet]) -> None:
    """What the ground shakes beside the town, off its edge, falls to less than a third; the town stays as it was."""
    ground, far = (275, 345), (40, 160)
    as_town = delivered(measurement, sheets[0], treated(0), ground)
    before, after = (shaking(delivered(measurement, sheets[1], treated(limit), ground) - as_town) for limit in (0, 6))
    assert before > 0.5
    assert after < before / 3
    town_before, town_after = (delivered(measurement, sheets[0], treated(limit), far) for limit in (0, 6))
    assert shaking(town_after - town_before) < 0.1 * before


def test_a_plain_scene_is_left_alone() -> None:
    shake = swaying(COUNT, 4, 2.5, 1) + 1j * swaying(COUNT, 4, 2.5, 2)
    back = town()
    plain = measured([Sheet.of(back, laid_out(SIZE.centre + shake, np.ones(COUNT, complex), back))])
    bending = solve_path(plain, treated(8)).bending
    assert bending is not None
    assert bending.largest < 0.3
    assert not offer(plain).worth


def test_what_bending_would_give_is_told_before(measurement: Measurement) -> None:
    told = offer(measurement)
    assert told.worth
    assert 2 <= told.limit_px <= 12
    assert told.stretches
    bending = solve_path(measurement, treated(told.limit_px)).bending
    assert bending is not None
    assert bending.left_px == pytest.approx(told.left_px, rel=0.05)
    assert bending.apart_px == pytest.approx(told.apart_px, rel=0.05)


@pytest.mark.parametrize("limit", [1.0, 4.0])
@pytest.mark.parametrize("way", ["fill", "trim"])
def test_a_bent_path_keeps_every_limit(measurement: Measurement, limit: float, way: str) -> None:
    treatment = treated(limit, way=way, zoom_limit=1.05)
    path = solve_path(measurement, treatment)
    plain = solve_path(measurement, treated(0, way=way, zoom_limit=1.05))
    assert path.bending is not None
    assert path.bending.largest <= limit + 1e-6
    assert path.bending.stretch <= MOST_STRETCH + 1e-6
    assert plain.zoom.max() - 1e-9 <= path.zoom.max() <= 1.05 + 1e-9
    assert np.array_equal(path.homographies, plain.homographies)
    sampling = frame_map(path)
    assert max(border_overhang(sampling, frame) for frame in range(COUNT)) < 1e-3


def test_what_is_ignored_is_not_bent(measurement: Measurement) -> None:
    corner = [[400, 240], [639, 240], [639, 359], [400, 359]]
    area = {"name": "bonnet", "keys": [{"frame": 0, "polygon": corner}]}
    treatment = Treatment.model_validate({"motion": {"bend_limit_px": 6, "ignore": [area]}})
    bending = solve_path(measurement, treatment).bending
    assert bending is not None
    inside = np.array([[405.0, 245.0], [520.0, 300.0], [639.0, 359.0], [400.5, 358.0]])
    for frame in range(0, COUNT, 7):
        assert np.array_equal(bending.mesh.moved(frame, inside), inside)
    assert bending.largest > 1


def test_a_measurement_of_an_earlier_format_is_bent_all_the_same(measurement: Measurement) -> None:
    """It does not tell whose points are, nor of which layer: areas are not heeded, as it says."""
    unknown = np.zeros(0, np.int32)
    evidence = replace(measurement.evidence, identity=unknown, layer=unknown)
    former = replace(measurement, evidence=evidence, confidence=None)
    area = {"name": "walker", "follows": True, "keys": [{"frame": 5, "polygon": [[10, 10], [90, 10], [50, 90]]}]}
    treatment = Treatment.model_validate({"motion": {"bend_limit_px": 6, "ignore": [area]}})
    bending = solve_path(former, treatment).bending
    assert bending is not None
    assert bending.left_px < 0.6 * bending.apart_px


def test_only_what_is_steadied_as_a_whole_is_bent(measurement: Measurement) -> None:
    for motion in ({"intent": None}, {"intent": "level"}):
        treatment = Treatment.model_validate({"motion": {**motion, "bend_limit_px": 4}})
        assert solve_path(measurement, treatment).bending is None


def test_a_frame_that_lends_is_bent_as_itself(measurement: Measurement) -> None:
    path = solve_path(measurement, treated(6, way="borrow"))
    assert path.bending is not None
    middle = np.array([[320.0, 280.0]])
    other = lending_map(path, 5)
    moved = other.places(20, middle)
    unbent = other.stages[0].points(20, middle)
    assert np.allclose(moved, path.bending.mesh.moved(25, unbent))


def test_behind_a_lens_the_mesh_lies_on_the_source(measurement: Measurement) -> None:
    lens = {"family": "division", "coefficients": [-0.12]}
    treatment = Treatment.model_validate({"motion": {"bend_limit_px": 6}, "optics": {"lens": lens}})
    path = solve_path(measurement, treatment)
    assert path.bending is not None
    assert path.bending.largest > 1
    assert path.bending.left_px < 0.7 * path.bending.apart_px
    sampling = frame_map(path)
    assert max(border_overhang(sampling, frame) for frame in range(0, COUNT, 5)) < 1e-3


SMALL = Grid(Size(320, 180))


@given(
    seed=st.integers(0, 10**6),
    limit=st.floats(0.1, 24),
    size=st.floats(0.01, 60),
    smooth=st.integers(0, 3),
)
@settings(max_examples=30)
def test_whatever_is_wanted_the_mesh_keeps_its_limits(seed: int, limit: float, size: float, smooth: int) -> None:
    """No place moves further than the limit, no length changes by more than a twentieth, nothing folds over, and places
    of the source stay within it.
    """
    random = np.random.default_rng(seed)
    rows, columns = SMALL.shape
    wanted = size * random.normal(size=(2, rows, columns, 2))
    for _ in range(smooth):
        wanted[:, 1:-1, 1:-1] = (
            wanted[:, :-2, 1:-1] + wanted[:, 2:, 1:-1] + wanted[:, 1:-1, :-2] + wanted[:, 1:-1, 2:]
        ) / 4
    found = held(wanted, SMALL, np.full((2, rows, columns), limit), np.zeros((2, 4)))
    assert stretch_of(found, SMALL).max() <= MOST_STRETCH + 1e-9
    mesh = MeshOverTime(0, SMALL.size, found.astype(np.float32))
    places = random.uniform((-0.5, -0.5), (319.5, 179.5), (400, 2))
    moved = mesh.moved(1, places)
    assert np.hypot(*(moved - places).T).max() <= limit + 1e-4
    step = 0.01
    along, down = ((mesh.moved(1, places + offset) - moved) / step for offset in ((step, 0.0), (0.0, step)))
    lengths = np.linalg.svd(np.stack([along, down], -1), compute_uv=False)
    assert np.abs(lengths - 1).max() <= MOST_STRETCH * 1.15  # told at two places a cell and direction
    assert (np.linalg.det(np.stack([along, down], -1)) > 0.8).all()
    border = mesh.moved(1, SMALL.size.border(step=3))
    assert border.min() >= -0.5 - 1e-6
    assert (border <= (319.5 + 1e-6, 179.5 + 1e-6)).all()


def test_moving_back_undoes_moving() -> None:
    random = np.random.default_rng(3)
    wanted = 5 * random.normal(size=(1, *SMALL.shape, 2))
    found = held(wanted, SMALL, np.full((1, *SMALL.shape), 4.0), np.full((1, 4), 2.0))
    mesh = MeshOverTime(7, SMALL.size, found.astype(np.float32))
    places = random.uniform((0, 0), (319, 179), (200, 2))
    assert np.abs(mesh.moved(7, mesh.moved_back(7, places)) - places).max() < 2e-3


def test_a_thing_held_before_the_town_is_bent_around() -> None:
    """A near thing at one side: what moves apart falls by more than half, also where the thing has no straight edge."""
    shake = swaying(COUNT, 4, 2.5, 5) + 1j * swaying(COUNT, 4, 2.5, 6)
    back, near = town(), cloth(220, 300)
    thing = Sheet.of(near, laid_out(200 + 190j + 2 * shake, np.ones(COUNT, complex), near), shape(near))
    film = measured([Sheet.of(back, laid_out(SIZE.centre + shake, np.ones(COUNT, complex), back)), thing])
    bending = solve_path(film, treated(8)).bending
    assert bending is not None
    assert bending.left_px < 0.5 * bending.apart_px
    assert film.rate == pytest.approx(RATE)
