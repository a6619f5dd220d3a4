"""Rows of a sphere that are read one after another: told from the points, and undone where pictures are looked up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation
from spheres import SMALL, cube, errors, measured, rocker
from truth import rms

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.finding.sphere_readout import find_sphere_readout
from keen_horizon.core.glass.shutter import SURE, Readout
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.sphere import SphereMap
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.rows import at_middle_row, at_own_rows, row_shares, shot_spins, spins
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.sphere import SphereFilm

FRAMES = 40
SPHERE = Sphere(SMALL)


def filmed(readout: float, seed: int = 1, degrees: float = 2.0) -> Measurement:
    """What is measured of a rocking camera that reads its rows so long."""
    stands = rocker(seed, degrees)
    film = SphereFilm(cube(), SPHERE, stands(np.arange(FRAMES)), stands, readout)
    found = measured(film.pictures())
    return replace(found, readout=find_sphere_readout(found))


@pytest.fixture(scope="module")
def read_down() -> Measurement:
    return filmed(0.6, degrees=4.0)


@pytest.mark.parametrize("readout", [0.0, -0.8])
def test_a_readout_is_told(readout: float) -> None:
    found = filmed(readout).readout
    assert found.enough
    assert found.frames == pytest.approx(readout, abs=0.03)
    assert found.doubt < SURE


def test_a_still_camera_does_not_tell() -> None:
    assert not filmed(0.6, degrees=0.01).readout.enough


def test_turns_are_those_of_middle_rows(read_down: Measurement) -> None:
    assert read_down.readout.frames == pytest.approx(0.6, abs=0.03)
    pair, absolute = errors(read_down, rocker(degrees=4.0)(np.arange(FRAMES)))
    assert pair <= 0.01
    assert absolute <= 0.01


@pytest.mark.parametrize(("shutter", "most_px"), [("measured", 0.1), ("off", None)])
def test_what_rows_saw_is_looked_up_where_they_saw_it(
    read_down: Measurement, shutter: str, most_px: float | None
) -> None:
    """A point of the world that stands still in the held sphere is looked up where its own row had it."""
    stands = rocker(degrees=4.0)
    path = solve_sphere(read_down, Treatment.from_json({"motion": {"intent": "hold", "rolling_shutter": shutter}}))
    world_from_out = stands(np.zeros(1))[0] * path.steadied[0]
    places = np.stack(np.meshgrid([100, 380, 700], [120, 200, 330, 400]), -1).reshape(-1, 2)
    rays = world_from_out.apply(SPHERE.rays(places.astype(float)))
    grid = PlaneGrid.of((SMALL.height, SMALL.width), (1, 1), np.eye(3))
    off = []
    for frame in range(4, FRAMES - 4, 5):
        columns, rows = SphereMap(path).plane_maps(frame, grid, grid)
        seen = stands(np.full(len(rays), float(frame))).inv().apply(rays)
        for _ in range(4):
            seen = stands(frame + 0.6 * row_shares(seen)).inv().apply(rays)
        table = np.stack([m[places[:, 1], places[:, 0]] for m in (columns, rows)], -1).astype(float)
        apart = table - SphereMap(path).places(frame, places.astype(float))
        assert np.abs(apart - np.rint(apart / (SMALL.width, 1)) * (SMALL.width, 1)).max() < 0.02
        found = SPHERE.rays(table)
        off.append(np.linalg.norm(found - seen, axis=-1) * SPHERE.px_per_rad)
    print(f"rows {shutter}: {rms(np.array(off)):.3f} px RMS")
    if most_px is None:
        assert rms(np.array(off)) > 0.5
    else:
        assert rms(np.array(off)) <= most_px


def test_a_change_of_shot_is_no_turn() -> None:
    """Two shots whose headings have nothing in common: what turns in each tells, not what lies between."""
    stands = rocker(degrees=3.0)
    frames = np.r_[np.arange(24), np.arange(300, 324)]
    by_day, by_night = (
        SphereFilm(cube(seed), SPHERE, stands(part), lambda at, start=part[0]: stands(start + at), 0.5).pictures()
        for seed, part in ((5, frames[:24]), (9, frames[24:]))
    )
    found = measured([*by_day, *(picture // 2 for picture in by_night)])
    assert np.flatnonzero(found.cut).tolist() == [23]
    readout = find_sphere_readout(found)
    assert readout.enough
    assert readout.frames == pytest.approx(0.5, abs=0.03)
    spin = shot_spins(stands(frames), found.cut)
    apart = np.concatenate([spins(stands(part)) for part in (frames[:24], frames[24:])])
    assert (spin == apart).all()


@given(st.integers(0, 1000))
def test_rows_and_middle_rows_are_each_other_s_reverse(seed: int) -> None:
    random = np.random.default_rng(seed)
    rays = random.normal(size=(50, 3))
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    read_turn = random.normal(size=3) * 0.02
    assert np.abs(at_middle_row(at_own_rows(rays, read_turn), read_turn) - rays).max() < 5e-5


def test_spins_are_those_of_a_camera_that_turns_evenly() -> None:
    turning = Rotation.from_rotvec(np.outer(np.arange(20), [0.01, -0.02, 0.03]))
    assert spins(turning) == pytest.approx(np.tile([0.01, -0.02, 0.03], (20, 1)), abs=1e-9)
    assert not spins(turning[:3]).any()


def test_a_readout_by_hand_is_undone_and_said() -> None:
    still = replace(filmed(0.0, degrees=0.5), readout=Readout(0.0, 1.0, False))
    path = solve_sphere(still, Treatment.from_json({"motion": {"intent": "hold", "rolling_shutter": 0.4}}))
    assert path.read_turns == pytest.approx(0.4 * spins(path.measured))
