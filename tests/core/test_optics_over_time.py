"""Optics that change: keyed figures, moved corners, a turned camera, other projections; no gap where none may be."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from glass import seen_by_turning_camera, shaking_camera
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation
from walks import treated, walked

from keen_horizon.core.errors import LensError, TreatmentError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.keyframes import keyed
from keen_horizon.core.lens.lens import fisheye_of
from keen_horizon.core.lens.over_time import optics_stage
from keen_horizon.core.lens.perspective import corners_of, horizon_turn, keystone, through, turned_camera
from keen_horizon.core.lens.projection import flat, projected
from keen_horizon.core.lens.stage import View, lens_stage
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.gaps import gap_mask
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import Optics
from keen_horizon.core.treatment.parts import Key

SIZE = Size(960, 540)
GRID = PlaneGrid((540, 960), np.eye(3))
FISHEYE = {"family": "equidistant", "coefficients": [1.2]}


def optics(**parts: object) -> Optics:
    return Treatment.from_json({"optics": parts}).optics


def track(figure: str, *keys: tuple[int, float] | tuple[int, float, str]) -> dict:
    return {"figure": figure, "keys": [dict(zip(("frame", "value", "ease"), key, strict=False)) for key in keys]}


def gaps(made: Optics, frames: int) -> list[int]:
    stage = optics_stage(made, SIZE, 0, frames - 1)
    path = treated(walked(frames, 1, size=SIZE), {"intent": None})
    sampling = frame_map(replace(path, stage=stage))
    return [int(gap_mask(sampling.plane_maps(i, GRID, GRID), GRID, sampling).sum()) for i in range(frames)]


@given(st.lists(st.tuples(st.integers(0, 100), st.floats(-5, 5)), min_size=2, max_size=6, unique_by=lambda key: key[0]))
def test_nothing_between_two_keys_leaves_what_they_say(keys: list[tuple[int, float]]) -> None:
    keys = sorted(keys)
    for ease in ("smooth", "even", "hold"):
        values = keyed([Key(frame=f, value=v, ease=ease) for f, v in keys], 0.0, np.arange(101))
        for (start, a), (end, b) in itertools.pairwise(keys):
            between = values[start : end + 1]
            assert between[0] == pytest.approx(a)
            assert between[-1] == pytest.approx(b)
            assert min(a, b) - 1e-9 <= between.min()
            assert between.max() <= max(a, b) + 1e-9
        if ease == "hold":
            assert np.abs(np.subtract.outer(values, [v for _, v in keys])).min(1).max() < 1e-9


@settings(max_examples=25)
@given(
    st.lists(st.floats(-0.12, 0.12), min_size=8, max_size=8), st.floats(-9, 9), st.floats(-14, 14), st.floats(0.2, 1.6),
    st.sampled_from(["straight", "cylinder", "stereographic"]), st.sampled_from(["one", "each frame"]),
)  # fmt: skip
def test_keyed_optics_have_no_gap_in_any_frame(
    corners: list[float], roll: float, pitch: float, w: float, projection: str, zoom: str
) -> None:
    keys = [track(f"corner_{i}", (0, 0.0), (5, value)) for i, value in enumerate(corners, 1)]
    keys += [track("coefficient_1", (0, 1.0), (5, w)), track("centre_x", (0, -0.02), (4, 0.03, "even"))]
    keys += [track("roll_deg", (1, 0.0), (5, roll)), track("pitch_deg", (0, pitch))]
    assert gaps(optics(lens=FISHEYE, keys=keys, projection=projection, zoom=zoom), 6) == [0] * 6


def test_the_zoom_follows_each_frame_or_is_one() -> None:
    keys = [track("corner_1", (0, 0.0), (10, 0.2)), track("corner_2", (0, 0.0), (10, -0.2))]
    one, each = (optics_stage(optics(keys=keys, zoom=zoom), SIZE, 0, 10) for zoom in ("one", "each frame"))
    assert one is not None
    assert each is not None
    assert {stage.step for stage in one.stages} == {each.smallest_step}
    assert each.at(0).step == pytest.approx(1 / 1.001)
    assert each.at(10).step < 0.75 < each.at(5).step
    assert np.all(np.diff([stage.step for stage in each.stages]) <= 1e-9)
    later = each.shifted(3)
    assert later.at(2) == each.at(5)


def test_four_corners_make_a_rectangle() -> None:
    quad = np.array([[300.0, 150], [700, 120], [760, 450], [260, 400]])
    quad = (quad - (SIZE.centre.real, SIZE.centre.imag)) / SIZE.half_diagonal
    corners = corners_of(quad, SIZE)
    assert corners is not None
    seen = through(np.linalg.inv(keystone(corners, SIZE)), quad)
    assert np.abs(seen[0, 1] - seen[1, 1]) < 1e-9
    assert np.abs(seen[3, 1] - seen[2, 1]) < 1e-9
    assert np.abs(seen[0, 0] - seen[3, 0]) < 1e-9
    assert np.abs(seen[1, 0] - seen[2, 0]) < 1e-9
    assert corners_of(quad[[0, 2, 1, 3]], SIZE) is None


@pytest.mark.parametrize(("roll", "pitch"), [(4.0, 0.0), (-3.0, 12.0), (7.0, -20.0)])
def test_lines_that_are_upright_in_the_world_tell_how_the_camera_stood(roll: float, pitch: float) -> None:
    focal = 0.6
    turn = turned_camera(roll, pitch, 0.0, focal)
    masts = [np.array([[x, -0.3], [x, 0.4]]) for x in (-0.7, -0.2, 0.5)]
    drawn = [through(turn, mast) for mast in masts]
    assert horizon_turn(drawn, focal) == pytest.approx((roll, pitch), abs=0.02)
    found = turned_camera(*horizon_turn(drawn, focal), 0.0, focal)
    upright = [through(np.linalg.inv(found), line) for line in drawn]
    assert max(abs(line[0, 0] - line[1, 0]) for line in upright) < 1e-3
    slope = np.tan(np.radians(5.0))
    one_roll, one_pitch = horizon_turn([np.array([[-0.5, -0.5 * slope], [0.5, 0.5 * slope]])], focal)
    assert one_roll == pytest.approx(5.0, abs=0.01)
    assert abs(one_pitch) < 0.01


def test_a_turned_camera_is_undone_on_the_fisheye_itself() -> None:
    """The same rays, seen upright and by a pitched and rolled camera: turning brings one onto the other."""
    lens = fisheye_of("equidistant", 140)
    focal = 1 / np.sqrt(lens.k[0])
    roll, pitch = 3.0, 10.0
    plane = turned_camera(roll, pitch, 0.0, focal)
    stage = lens_stage(lens, SIZE, 0.0, View(tuple(plane.ravel()), "straight", focal))
    masts = [np.array([[x, y] for y in (100.0, 250.0, 420.0)]) for x in (200.0, 700.0)]
    for mast in masts:
        source = stage.points(mast)
        again = stage.straighten(source)
        assert np.abs(again - mast).max() < 1e-3


@pytest.mark.parametrize("projection", ["straight", "cylinder", "stereographic"])
def test_projections_are_undone(projection: str) -> None:
    points = np.stack(np.meshgrid(np.linspace(-0.8, 0.8, 9), np.linspace(-0.6, 0.6, 7)), -1).reshape(-1, 2)
    there = flat(projection, 0.6, points)
    assert np.abs(projected(projection, 0.6, there) - points).max() < 1e-9


def test_a_wide_picture_keeps_more_in_another_projection() -> None:
    shares = {
        name: optics_stage(optics(lens={"family": "equisolid", "coefficients": [1.9]}, projection=name), SIZE)
        for name in ("straight", "cylinder", "stereographic")
    }
    kept = {name: stage.kept_area() for name, stage in shares.items() if stage is not None}
    print(kept)
    assert kept["straight"] < 0.7 < min(kept["cylinder"], kept["stereographic"])


def test_motion_is_solved_through_keyed_optics() -> None:
    """A lens that changes, keyed as it changed: the held picture stands as still as with a lens that stays."""
    lens = fisheye_of("equidistant", 120)
    measured = seen_by_turning_camera(lens, shaking_camera(40, 0.8, seed=2), Size(1280, 720))
    w = lens.k[0]
    left = {}
    for name, keys in (("steady", []), ("keyed", [track("coefficient_1", (0, w), (39, w + 1e-4))])):
        document = {
            "optics": {"lens": {"family": "equidistant", "coefficients": [w]}, "keys": keys},
            "motion": {"intent": "hold", "freedom": ["shift", "turn", "size", "tilt"]},
            "edges": {"way": "leave"},
        }
        path = solve_path(measured, Treatment.from_json(document))
        left[name] = path.correction
    corners = np.array([-600 - 300j, 600 + 300j, 600 - 300j])
    apart = np.abs(left["steady"].apply(corners) - left["keyed"].apply(corners))
    assert apart.max() < 0.5


def test_optics_documents_are_checked() -> None:
    for parts, said in (
        ({"keys": [track("pitch_deg", (0, 90.0))]}, "between -60 and 60"),
        ({"keys": [track("roll_deg", (0, 1.0), (0, 2.0))]}, "two keys"),
        ({"keys": [track("roll_deg", (0, 1.0)), track("roll_deg", (2, 1.0))]}, "keyed twice"),
        ({"corners": [1.6] + [0.0] * 7}, "1.5"),
        ({"projection": "mercator"}, "projection"),
    ):
        with pytest.raises(TreatmentError, match=said):
            optics(**parts)
    assert not optics().active
    assert Treatment.from_json({"optics": {"lens": FISHEYE, "keys": [track("canvas", (3, 0.2))]}}).gaps_wanted


def test_what_cannot_be_shown_is_refused_with_its_frame() -> None:
    keys = [track("coefficient_1", (0, -0.2), (8, -15.0))]
    with pytest.raises(LensError, match="folds over too near its middle at frame"):
        optics_stage(optics(lens={"family": "division", "coefficients": [-0.2]}, keys=keys), SIZE, 0, 8)


def test_corners_that_cross_are_refused() -> None:
    with pytest.raises(LensError, match="At frame 0 the four corners cross"):
        optics_stage(optics(corners=[1.2] + [0.0] * 7), SIZE)


def test_turning_alone_is_no_lens_at_all() -> None:
    plain = optics_stage(optics(turn={"roll_deg": 4.0}), SIZE)
    assert plain is not None
    matrix = plain.matrix(0)
    assert matrix is not None
    assert np.degrees(np.arctan2(matrix[1, 0], matrix[0, 0])) == pytest.approx(4.0)
    rotation = Rotation.from_euler("z", 4.0, degrees=True).as_matrix()[:2, :2]
    assert np.abs(matrix[:2, :2] / np.sqrt(np.linalg.det(matrix[:2, :2])) - rotation).max() < 1e-6
    assert optics_stage(optics(), SIZE) is None
