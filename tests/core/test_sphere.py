"""Cameras that see all around: their rays, what is measured of their turns, and where those are steadied to."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation
from spheres import SMALL, cube, errors, harbour, measured, rocking, street

from keen_horizon.core.cameras.sphere import Sphere, sphere_of
from keen_horizon.core.cameras.sphere_maps import sphere_maps
from keen_horizon.core.cameras.view import ViewCamera
from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.finding.vertical import find_vertical
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.checkpoint import restored_sphere, stored_sphere
from keen_horizon.core.motion.sphere.edges import looked_for_edges
from keen_horizon.core.motion.sphere.tracker import SphereTracker
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.sphere import figures
from keen_horizon.core.path.sphere.figures import sphere_ledger, sphere_motion_json, sphere_notes, turning_changes
from keen_horizon.core.path.sphere.outlook import keyed_outlooks, outlooks_of
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.render.sphere import around
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.view import View, ViewKey
from keen_horizon.simulator.sphere import SphereFilm

FRAMES = 24


@pytest.fixture(scope="module")
def at_sea() -> tuple[Measurement, Rotation]:
    true = rocking(FRAMES, degrees=4)
    return measured(SphereFilm(harbour(), Sphere(SMALL), true).pictures()), true


def test_points_and_rays_are_each_other_s_reverse() -> None:
    x, y = np.meshgrid(np.arange(0, 64, 3.0), np.arange(0, 32, 3.0))
    points = np.stack([x.ravel(), y.ravel()], -1)
    for camera in (Sphere(Size(64, 32)), Sphere(Size(64, 64), np.pi)):
        assert np.abs(camera.points(camera.rays(points)) - points).max() < 1e-9
    middle = Sphere(Size(65, 33)).rays(np.array([[32.0, 16.0], [48.25, 16.0], [32.0, 7.75]]))
    quarter = np.sqrt(0.5)
    assert np.allclose(middle, [[0, 0, 1], [1, 0, 0], [0, -quarter, quarter]])
    for name, field in (("flat", 1.5), ("cylinder", 5.0), ("stereographic", 5.0)):
        view = ViewCamera(Size(64, 32), name, field)  # type: ignore[arg-type]
        assert np.abs(view.points(view.rays(points)) - points).max() < 1e-9


@pytest.mark.parametrize("turn", [(0, 0, 0), (40, 60, 20), (178, -88, 5), (90, 0, 90)])
@pytest.mark.parametrize("out", ["sphere", "planet", "frame"])
def test_maps_are_right_at_seam_and_poles(turn: tuple[int, int, int], out: str) -> None:
    sphere, size = Sphere(Size(512, 256)), Size(256, 128)
    views = {"planet": ViewCamera(size, "stereographic", 5.2), "frame": ViewCamera(size, "flat", 1.6)}
    camera = views.get(out, Sphere(size))
    back = Rotation.from_euler("YXZ", turn, degrees=True).as_matrix().T

    def rays(points: np.ndarray) -> np.ndarray:
        return camera.rays(points) @ back

    columns, rows = sphere_maps(sphere, rays, size.height, size.width)
    x, y = np.meshgrid(np.arange(size.width), np.arange(size.height))
    true = rays(np.stack([x, y], -1).astype(float))
    found = sphere.rays(np.stack([columns, rows], -1).astype(float))
    apart = np.linalg.norm(found - true / np.linalg.norm(true, axis=-1, keepdims=True), axis=-1)
    assert apart.max() * sphere.px_per_rad < 0.06


def test_planes_go_on_around_the_sphere() -> None:
    plane = np.arange(8 * 16, dtype=np.uint8).reshape(8, 16)
    part = around(plane, (-3, 19), (-2, 10))
    assert part.shape == (12, 22)
    assert (part[2:10, 3:19] == plane).all()
    assert (part[2:10, :3] == plane[:, -3:]).all()
    assert (part[2:10, 19:] == plane[:, :3]).all()
    assert part[1, 3] == plane[0, 8]
    assert part[0, 3] == plane[1, 8]
    assert part[10, 3] == plane[7, 8]


@pytest.mark.parametrize("carried", [0.0, 0.2])
def test_turns_are_measured_to_a_hundredth_of_a_degree(carried: float) -> None:
    true = rocking(FRAMES, seed=2)
    pair, absolute = errors(measured(SphereFilm(cube(), Sphere(SMALL), true).pictures(carried)), true)
    assert pair <= 0.01
    assert absolute <= 0.01


def test_what_is_carried_along_is_not_believed_where_the_camera_hardly_turns() -> None:
    true = rocking(40, seed=4, degrees=0.05, heading=1.0)
    pair, absolute = errors(measured(SphereFilm(cube(), Sphere(SMALL), true).pictures(0.3)), true)
    assert absolute <= 0.01
    assert pair <= 0.01


def test_a_cut_parts_shots() -> None:
    true = rocking(8, seed=3)
    one, other = (list(SphereFilm(world, Sphere(SMALL), true).pictures()) for world in (cube(), harbour()))
    cut = measured([*one, *other])
    assert np.flatnonzero(cut.cut).tolist() == [7]
    path = solve_sphere(cut, Treatment.from_json({"motion": {"intent": "hold"}}))
    moved = (path.steadied[1:].inv() * path.steadied[:-1]).magnitude()
    assert np.delete(moved, 7).max() < 1e-9


def test_a_flash_is_no_cut() -> None:
    true = rocking(24, seed=3)
    pictures = list(SphereFilm(cube(), Sphere(SMALL), true).pictures())
    pictures[9:11] = [np.full_like(pictures[0], 250)] * 2
    found = measured(pictures)
    assert not found.cut.any()
    assert np.flatnonzero(found.blind).tolist() == [8, 9, 10]
    turns = sphere_turns(found, Sphere(SMALL)).rotations
    off = np.degrees(((true[0].inv() * true).inv() * turns).magnitude())
    assert np.delete(off, [9, 10]).max() < 0.05
    path = solve_sphere(found, Treatment.from_json({"motion": {"intent": "hold"}}))
    assert (path.steadied[1:].inv() * path.steadied[:-1]).magnitude().max() < 1e-9


def test_a_run_goes_on_from_its_bytes() -> None:
    true = rocking(10, seed=6)
    pictures = [picture[..., 1] for picture in SphereFilm(cube(), Sphere(SMALL), true).pictures()]
    pictures[8] = np.full_like(pictures[8], 250)  # a flash, behind which it goes on
    whole, half = SphereTracker.start(SMALL), SphereTracker.start(SMALL)
    for number, picture in enumerate(pictures):
        whole.add(np.ascontiguousarray(picture), number / 30)
        half.add(np.ascontiguousarray(picture), number / 30)
        half = restored_sphere(stored_sphere(half)) if number in (0, 5, 8) else half
    one, other = (sphere_turns(tracker.finish(0), Sphere(SMALL)).rotations for tracker in (whole, half))
    assert (one.inv() * other).magnitude().max() == 0


def test_up_is_told_by_the_town_and_not_by_noise(at_sea: tuple[Measurement, Rotation]) -> None:
    measurement, true = at_sea
    found = sphere_turns(measurement, Sphere(SMALL)).rotations
    vertical = find_vertical(measurement.uprights, found)
    assert vertical.enough
    assert np.degrees(np.arccos(vertical.up @ true[0].inv().apply([0, -1, 0]))) <= 0.1  # hills stand on half of it
    noisy = measured(SphereFilm(cube(), Sphere(SMALL), rocking(6)).pictures())
    assert not find_vertical(noisy.uprights, sphere_turns(noisy, Sphere(SMALL)).rotations).enough
    with pytest.raises(TreatmentError, match="Level"):
        solve_sphere(noisy, Treatment.from_json({"motion": {"intent": "level"}}))


def test_up_is_told_by_uprights_where_there_is_no_horizon(monkeypatch: pytest.MonkeyPatch) -> None:
    true = rocking(14, seed=2, degrees=4.0)
    found = measured(SphereFilm(street(10), Sphere(SMALL), true).pictures())
    vertical = find_vertical(found.uprights, sphere_turns(found, Sphere(SMALL)).rotations)
    assert (vertical.enough, vertical.horizon) == (True, False)
    assert np.degrees(np.arccos(vertical.up @ true[0].inv().apply([0, -1, 0]))) <= 0.1
    treatment = Treatment.from_json({"motion": {"intent": "level"}})
    path = solve_sphere(found, treatment)
    sure = f"Level by upright edges all around, sure to about {vertical.doubt:.2f}°."
    assert sphere_notes(found, treatment, path)[0] == sure
    monkeypatch.setattr(figures, "CLOSE_DEG", vertical.doubt / 2)
    asked = "Draw lines along two uprights, a quarter turn apart, to be surer."
    assert sphere_notes(found, treatment, path)[0] == f"{sure} {asked}"


def test_intents_steady_and_say_what_they_cost(at_sea: tuple[Measurement, Rotation]) -> None:
    measurement, true = at_sea
    world = true[0].inv()

    def solved(intent: str | None, **motion: object) -> tuple[Rotation, float]:
        treatment = Treatment.from_json({"motion": {"intent": intent, **motion}})
        path = solve_sphere(measurement, treatment)
        return path.steadied, sphere_ledger(path).shake_after_deg

    usual = float(np.sqrt((turning_changes(true) ** 2).mean()))
    held, shake = solved("hold")
    assert np.degrees((held[1:].inv() * held[:-1]).magnitude().max()) < 1e-6
    assert shake < 1e-6
    glided, shake = solved("glide", response_s=1.0)
    assert shake < 0.05 * usual
    assert np.degrees((glided.inv() * (world * true)).magnitude().max()) < 25
    level, _ = solved("level", response_s=1.0)
    up = level.inv().apply(world.apply([0, -1, 0]))
    assert np.degrees(np.arccos(np.clip(-up[:, 1], -1, 1))).max() <= 0.2
    half, _ = solved("hold", strength=0.5)
    assert np.allclose((half.inv() * held).magnitude(), (world * true).inv().__mul__(held).magnitude() / 2, atol=0.01)
    shot, _ = solved(None)
    assert np.degrees(((world * true).inv() * shot).magnitude().max()) < 0.05


def test_a_path_says_where_the_camera_stood(at_sea: tuple[Measurement, Rotation]) -> None:
    measurement, true = at_sea
    document = sphere_motion_json(measurement)
    assert document["frames"][0]["world_from_camera"] == pytest.approx([0, 0, 0, 1], abs=1e-9)
    told = Rotation.from_quat([row["world_from_camera"] for row in document["frames"]])
    assert np.degrees((told.inv() * (true[0].inv() * true)).magnitude().max()) < 0.03
    view = {"output": "flat", "size": {"width": 1280, "height": 720}, "keys": [{"frame": 0, "field_deg": 40}]}
    treatment = Treatment.from_json({"motion": {"intent": "level"}, "view": view})
    path = solve_sphere(measurement, treatment)
    notes = " ".join(sphere_notes(measurement, treatment, path))
    assert "Level by the horizon" in notes
    assert "Draw lines" not in notes
    assert "enlarged up to 10.8x" in notes


def test_a_part_of_a_measurement_keeps_what_tells_up(at_sea: tuple[Measurement, Rotation]) -> None:
    part = at_sea[0].part(8, 17)
    assert part.sphere
    assert set(part.uprights.frames.tolist()) == {frame - 8 for frame in range(8, 18) if looked_for_edges(frame)}
    assert len(sphere_turns(replace(part), sphere_of(SMALL)).rotations) == 10


def keys(*rows: tuple[int, float], ease: str = "smooth") -> tuple[ViewKey, ...]:
    return tuple(ViewKey(frame=frame, yaw_deg=yaw, ease=ease) for frame, yaw in rows)  # type: ignore[arg-type]


def test_views_turn_the_shortest_way_round() -> None:
    yaw = np.degrees(keyed_outlooks(keys((0, 170), (30, -170)), np.arange(31))[:, 0])
    assert yaw[0] == pytest.approx(170)
    assert yaw[-1] == pytest.approx(190)
    assert (np.diff(yaw) >= -1e-9).all()
    assert np.abs(np.diff(yaw)).max() <= 1.6 * 20 / 30
    even = np.degrees(keyed_outlooks(keys((0, 0), (10, 50), ease="straight"), np.arange(11))[:, 0])
    assert np.allclose(np.diff(even), 5)


@given(st.lists(st.floats(-180, 180), min_size=2, max_size=6))
def test_views_never_overshoot_their_keys(yaws: list[float]) -> None:
    at = [20 * number for number in range(len(yaws))]
    found = np.degrees(keyed_outlooks(keys(*zip(at, yaws, strict=True)), np.arange(at[-1] + 1))[:, 0])
    ends = np.degrees(np.unwrap(np.radians(yaws)))
    for number, frame in enumerate(at[:-1]):
        part = found[frame : frame + 21]
        low, high = sorted(ends[number : number + 2])
        assert part.min() >= low - 1e-6
        assert part.max() <= high + 1e-6
    assert np.abs(np.diff(found, 2)).max() <= 0.02 * 360  # no jump of speed


def test_a_view_rounds_from_flat_to_a_little_planet() -> None:
    """Between its ends the family agrees with them, every camera's rays and points with each other, and views are never
    wider than they may be.
    """
    size = Size(64, 32)
    points = np.stack(np.meshgrid(np.linspace(2, 61, 9), np.linspace(1, 30, 7)), -1).reshape(-1, 2)
    for roundness, twin in ((0.0, "flat"), (1.0, "stereographic")):
        one, other = (ViewCamera(size, name, 1.5, r) for name, r in (("flat", roundness), (twin, None)))  # type: ignore[arg-type]
        assert one.rays(points) == pytest.approx(other.rays(points))
    for roundness in (0.2, 0.7):
        view = ViewCamera(size, "flat", 3.0, roundness)
        assert view.points(view.rays(points)) == pytest.approx(points, abs=1e-6)
        assert np.degrees(ViewCamera.of_focal(size, "flat", view.focal, roundness).field) == pytest.approx(
            np.degrees(3.0)
        )
        left = view.rays(np.array([[-0.5, 15.5]]))[0]
        assert np.arctan2(-left[0], left[2]) == pytest.approx(1.5, abs=1e-6)
    keys = ({"frame": 0, "field_deg": 340, "roundness": 1}, {"frame": 20, "field_deg": 60, "roundness": 0})
    view = View.model_validate({"output": "flat", "keys": keys})
    outlooks = outlooks_of(view, size, np.arange(21), Sphere(SMALL))
    assert outlooks is not None
    assert (np.degrees(outlooks.figures[:, 3]) <= 150 + 190 * outlooks.figures[:, 4] + 1e-9).all()
    assert (np.diff(outlooks.figures[:, 3:], axis=0) <= 1e-12).all()


def test_documents_of_views_are_checked() -> None:
    for view, words in (
        ({"output": "flat", "keys": [{"frame": 0, "field_deg": 170}]}, "at most 150"),
        ({"output": "flat", "keys": [{"frame": 0, "field_deg": 300, "roundness": 0.5}]}, "at most 245"),
        ({"output": "cylinder", "keys": [{"frame": 3}, {"frame": 3}]}, "two keys"),
        ({"output": "flat", "size": {"width": 15, "height": 20}}, "width"),
        ({"output": "sphere", "size": {"width": 640, "height": 360}}, "twice as wide as high"),
    ):
        with pytest.raises(TreatmentError, match=words):
            Treatment.from_json({"view": view})
    assert View().output == "flat"


@pytest.mark.parametrize("output", ["flat", "cylinder", "stereographic"])
def test_a_view_is_kept_as_sharp_as_the_sphere(at_sea: tuple[Measurement, Rotation], output: str) -> None:
    view = {"output": output, "size": {"width": 640, "height": 360}, "keys": [{"frame": 0, "field_deg": 40}]}
    document = {"motion": {"intent": "hold"}, "view": view}
    soft = solve_sphere(at_sea[0], Treatment.from_json(document))
    assert soft.source_px.max() < 0.5
    view["least_source_px"] = 0.6
    assert solve_sphere(at_sea[0], Treatment.from_json(document)).source_px == pytest.approx(0.6)
