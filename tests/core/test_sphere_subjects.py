"""Subjects all around: followed past the picture's sides, pinned, and followed with a lag; and up as it is drawn."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from spheres import SMALL, cube, measured, passing, rocking
from truth import rms

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.finding.vertical import drawn_vertical
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack, Trail
from keen_horizon.core.motion.sphere.pin import follow_on_sphere, scene_rays
from keen_horizon.core.path.sphere.pinned import lagging
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.simulator.sphere import SphereFilm

FRAMES = 40
SPHERE = Sphere(SMALL)
NOT_TURNED = Rotation.identity()


def headings(yaws_deg: np.ndarray, pitches_deg: np.ndarray) -> np.ndarray:
    """Unit rays (N, 3)."""
    angles = np.stack(np.broadcast_arrays(yaws_deg, pitches_deg), -1)
    return Rotation.from_euler("YX", angles, degrees=True).apply([0.0, 0.0, 1.0])


WALK = headings(np.linspace(150, 235, FRAMES), np.linspace(-5, 10, FRAMES))  # across the picture's sides


@pytest.fixture(scope="module")
def walked() -> tuple[list[np.ndarray], Rotation]:
    true = rocking(FRAMES, heading=10)
    pictures = passing(SphereFilm(cube(), SPHERE, true).pictures(), SPHERE, true, WALK)
    return [cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY) for picture in pictures], true


@pytest.fixture(scope="module")
def seen(walked: tuple[list[np.ndarray], Rotation]) -> Measurement:
    return measured(cv2.cvtColor(picture, cv2.COLOR_GRAY2BGR) for picture in walked[0])


def trail_of(rays: np.ndarray, true: Rotation) -> Trail:
    """Where rays (N, 3) of the world are seen."""
    places = SPHERE.points(true.inv().apply(rays))
    return Trail(places[:, 0] + 1j * places[:, 1], np.ones(len(rays)))


@pytest.mark.parametrize("known", [True, False])
def test_a_subject_is_followed_past_the_sides(walked: tuple[list[np.ndarray], Rotation], known: bool) -> None:
    pictures, true = walked
    turns = true.as_matrix() if known else np.repeat(np.eye(3)[None], FRAMES, 0)
    trail = follow_on_sphere(SPHERE, pictures, SPHERE.points(true[0].inv().apply(WALK[0])), list(turns))
    assert (trail.confidence > 0).all()
    rays = true.apply(SPHERE.rays(np.stack([trail.points.real, trail.points.imag], -1)))
    assert rms(np.linalg.norm(rays - WALK, axis=1)) * SPHERE.px_per_rad <= 0.2


def test_what_was_lost_goes_on_evenly_in_the_scene() -> None:
    true = rocking(FRAMES)
    trail = trail_of(WALK, true)
    trail.points[10:20], trail.confidence[10:20] = 0, 0
    rays = scene_rays(PinTrack(0, trail), SPHERE, 0, true)
    assert np.degrees(np.arccos(np.clip((rays * WALK).sum(1), -1, 1))).max() < 0.3


def pin_document(count: int, **pin: object) -> dict[str, object]:
    """A treatment that pins so many points, chosen on frame 5."""
    points = [{"marks": [{"frame": 5, "x": 10.0 + number, "y": 10}]} for number in range(count)]
    return {"motion": {"intent": "pin", "pin": {"points": points, **pin}}}


def pinned(seen: Measurement, tracks: tuple[PinTrack, ...], **pin: object) -> Rotation:
    return solve_sphere(seen, Treatment.from_json(pin_document(len(tracks), **pin)), tracks).steadied


def test_a_pinned_subject_stays_where_it_was_chosen(
    walked: tuple[list[np.ndarray], Rotation], seen: Measurement
) -> None:
    _, true = walked
    steadied = pinned(seen, (PinTrack(0, trail_of(WALK, true)),))
    stands = (true[0] * steadied).inv().apply(WALK)
    assert np.degrees(np.linalg.norm(stands - stands[5], axis=1)).max() < 0.05
    assert np.degrees(np.linalg.norm(stands[5] - true[5].inv().apply(WALK[5]))) < 0.05

    rolling = Rotation.from_euler("ZYX", np.outer(np.linspace(0, 1, FRAMES), [40, 80, 20]), degrees=True)
    rays = [rolling.apply(true[0].apply(Rotation.from_euler("Y", yaw).apply([0, 0, 1]))) for yaw in (0.2, 0.6)]
    both = tuple(PinTrack(0, trail_of(subject, true)) for subject in rays)
    turned = (true[0] * pinned(seen, both)).inv()
    for subject in rays:
        stands = turned.apply(subject)
        assert np.degrees(np.linalg.norm(stands - stands[5], axis=1)).max() < 0.1
    with pytest.raises(TreatmentError, match="Pin"):
        solve_sphere(seen, Treatment.from_json(pin_document(1)))


def test_a_lag_trails_by_its_time_and_rounds_off_what_jerks() -> None:
    steady = headings(np.linspace(170, 290, 120), np.full(120, 5.0))
    late = lagging(steady, NOT_TURNED, 10.0)
    angle = np.degrees(np.arccos(np.clip((late[60:] * steady[60:]).sum(1), -1, 1)))
    assert np.allclose(angle, 10.0 * 120 / 119, atol=0.15)
    jerk = headings(np.repeat([0.0, 30.0], 60), np.zeros(120))
    yaw = np.degrees(np.arctan2(*lagging(jerk, NOT_TURNED, 10.0)[:, [0, 2]].T))
    assert np.diff(yaw).max() < 3
    assert yaw.max() <= 30 + 1e-9
    assert np.array_equal(lagging(jerk, NOT_TURNED, 0.0), jerk)


def test_drawn_lines_tell_up() -> None:
    tilt = Rotation.from_euler("ZX", [6.0, -9.0], degrees=True)  # reference_from_level
    up = tilt.apply([0.0, -1.0, 0.0])
    level = tilt.apply(headings(np.array([10.0, 60.0]), 0.0))
    masts = [tilt.apply(headings(np.array([yaw, yaw]), np.array([-3.0, 15.0]))) for yaw in (-20.0, 80.0)]

    def off(lines: list[np.ndarray], usual: np.ndarray) -> float:
        return float(np.degrees(np.arccos(np.clip(drawn_vertical(np.array(lines), usual).up @ up, -1, 1))))

    top = np.array([0.0, -1.0, 0.0])
    assert off([level], top) < 0.01
    assert off(masts, top) < 0.01
    assert off(masts[:1], up) < 0.01  # what one mast leaves open is as it was
    assert off(masts[:1], top) < np.degrees(np.arccos(up @ top))
    assert drawn_vertical(np.array([level]), top).horizon
    assert drawn_vertical(np.array([level]), top).drawn


def test_level_goes_by_a_line_that_is_drawn(seen: Measurement, walked: tuple[list[np.ndarray], Rotation]) -> None:
    _, true = walked
    places = SPHERE.points(true[8].inv().apply(headings(np.array([-30.0, 50.0]), 0.0)))
    line = dict(zip(("x1", "y1", "x2", "y2"), places.ravel().round(1).tolist(), strict=True))
    with pytest.raises(TreatmentError, match="Draw a line"):
        solve_sphere(seen, Treatment.from_json({"motion": {"intent": "level"}}))
    document = {"motion": {"intent": "level", "level": {"lines": [{"frame": 8, **line}]}}}
    steadied = solve_sphere(seen, Treatment.from_json(document)).steadied
    up = (true[0] * steadied).inv().apply([0.0, -1.0, 0.0])
    assert np.degrees(np.arccos(np.clip(-up[:, 1], -1, 1))).max() < 0.1
