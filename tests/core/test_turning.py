"""Turning the camera behind a wide lens: its turns, what is left at the corners, gaps and limits."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
from glass import corner_wobble, rays_of, rocking_camera, seen_by_turning_camera, shaking_camera
from hypothesis import given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from keen_horizon.core.geometry.homography_parts import parted
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.tilt import tilt_matrices
from keen_horizon.core.lens.lens import Lens, fisheye_of
from keen_horizon.core.lens.over_time import optics_stage
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.staged import frame_map, lending_map
from keen_horizon.core.motion.focal import focal_from_motion
from keen_horizon.core.motion.turns import camera_turns
from keen_horizon.core.path.borrowing import borrowing_behind
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger
from keen_horizon.core.path.notes import solution_notes
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.tradeoff import trade_off
from keen_horizon.core.path.trajectory import homographies_between
from keen_horizon.core.treatment.document import Treatment

SIZE = Size(1280, 720)
LENS = fisheye_of("equidistant", 150)
DINGHY = rocking_camera(120)
MEASURED = seen_by_turning_camera(LENS, DINGHY, SIZE)


def treatment(motion: dict, edges: dict | None = None, lens: dict | None = None, **optics: object) -> Treatment:
    wide = {"family": LENS.family, "coefficients": list(LENS.k), **(lens or {})}
    return Treatment.from_json({"optics": {"lens": wide, **optics}, "motion": motion, "edges": edges or {}})


def overhang(path: CameraPath) -> float:
    sampling = frame_map(path)
    return max(border_overhang(sampling, frame) for frame in range(path.first, path.last + 1))


def test_the_turns_of_a_rocking_camera_are_told() -> None:
    stage = optics_stage(treatment({}).optics, SIZE, 0, len(DINGHY) - 1)
    turns = camera_turns(MEASURED, stage)
    off = (DINGHY[0].inv() * DINGHY).inv() * turns.rotations
    assert np.degrees(off.magnitude()).max() < 0.002
    assert np.abs(turns.growth).max() < 1e-4


@pytest.mark.parametrize("intent", ["hold", "glide"])
def test_a_rocking_camera_leaves_less_wobble_at_the_corners_when_straightened(intent: str) -> None:
    motion, edges = {"intent": intent, "freedom": ["shift", "turn", "size", "tilt"]}, {"way": "leave"}
    bent = treatment(motion, edges, {"family": "division", "coefficients": [0.0]})
    straight = treatment(motion, edges)
    left = {
        name: corner_wobble(
            solve_path(MEASURED, wanted), optics_stage(wanted.optics, SIZE, 0, len(DINGHY) - 1), LENS, DINGHY
        )
        for name, wanted in (("bent", bent), ("straight", straight))
    }
    print(f"corner wobble left by {intent}: {left['bent']:.3f} px bent, {left['straight']:.3f} px straightened")
    assert left["straight"] < 0.1 * left["bent"]


def test_the_motion_tells_the_angles_of_a_lens_that_does_not() -> None:
    lens = Lens("division", (-0.25,))  # its focal length is one half-diagonal, see axis_scale
    measured = seen_by_turning_camera(lens, DINGHY, SIZE)
    motion = {"intent": "hold", "freedom": ["shift", "turn", "size", "tilt"]}
    wanted = treatment(motion, {"way": "leave"}, {"family": "division", "coefficients": [-0.25]})
    stage = optics_stage(wanted.optics, SIZE, 0, len(DINGHY) - 1)
    assert focal_from_motion(measured, stage) == pytest.approx(1.0, rel=0.01)
    assert corner_wobble(solve_path(measured, wanted), stage, lens, DINGHY) < 0.2
    assert "The motion tells the lens's angles" in solution_notes(measured, wanted)[0]
    still = seen_by_turning_camera(lens, Rotation.identity(30), SIZE)
    assert focal_from_motion(still, stage) is None


@hypothesis_settings(max_examples=25)
@given(
    st.floats(90, 165), st.integers(0, 10**6), st.floats(0.2, 4), st.sampled_from(["hold", "glide"]),
    st.floats(1.0, 1.5), st.sampled_from(["one", "breathing"]), st.sampled_from([[], ["size"]]), st.floats(0, 1),
    st.floats(-15, 15), st.sampled_from(["straight", "cylinder", "stereographic"]),
)  # fmt: skip
def test_no_setting_opens_a_gap_or_breaks_the_limit(
    degrees, seed, shake_deg, intent, limit, zoom, more, strength, pitch, projection
) -> None:
    lens = fisheye_of("equisolid", degrees)
    measured = seen_by_turning_camera(lens, shaking_camera(24, shake_deg, seed), SIZE)
    wanted = treatment(
        {"intent": intent, "freedom": ["shift", "turn", *more], "strength": strength},
        {"zoom_limit": limit, "zoom": zoom},
        {"family": lens.family, "coefficients": list(lens.k)},
        turn={"pitch_deg": pitch},
        projection=projection,
    )
    path = solve_path(measured, wanted)
    assert path.zoom.max() <= limit * (1 + 1e-9)
    assert overhang(path) <= 0.01
    assert ledger(path).gap_frames == 0


def seen_in_the_world(path: CameraPath, frame: int, offset: int = 0) -> np.ndarray:
    """The directions (P, 3) in the world of points of an output frame, as the frame `offset` away saw them; NaN where
    its picture ends.
    """
    size, shown = path.size, frame_map(path) if offset == 0 else lending_map(path, offset)
    x, y = np.meshgrid(np.linspace(8, size.width - 9, 24), np.linspace(8, size.height - 9, 14))
    source = shown.places(frame, np.stack([x.ravel(), y.ravel()], -1))
    inside = ((source > -0.5) & (source < (size.width - 0.5, size.height - 0.5))).all(1)
    world = DINGHY[frame + offset].apply(rays_of(LENS, source, size))
    return np.where(inside[:, None], world, np.nan)


@pytest.mark.parametrize("projection", ["straight", "cylinder", "stereographic"])
def test_held_the_world_stands_still_in_every_projection(projection: str) -> None:
    """And what another frame lends is what this one would have seen there."""
    motion = {"intent": "hold", "freedom": ["shift", "turn"]}
    wanted = treatment(motion, {"way": "borrow", "zoom_limit": 1.5}, projection=projection)
    path = solve_path(MEASURED, wanted)
    assert path.borrowed is not None
    assert "turning the camera" in solution_notes(MEASURED, wanted)[0]
    px = np.degrees(1 / (SIZE.half_diagonal / np.radians(75)))  # degrees for a pixel of the source
    first = seen_in_the_world(path, 10)
    for frame, offset in ((40, 0), (75, 0), (100, 0), (10, 4), (10, -4), (10, 20)):
        apart = np.degrees(np.linalg.norm(seen_in_the_world(path, frame, offset) - first, axis=1)) / px
        assert np.isfinite(apart).mean() > 0.5
        assert np.nanmax(apart) < 0.1, (frame, offset)


@pytest.mark.parametrize("projection", ["straight", "stereographic"])
def test_what_is_said_to_be_lent_is_found(projection: str) -> None:
    motion = {"intent": "hold", "freedom": ["shift", "turn"]}
    wanted = treatment(motion, {"way": "borrow", "zoom_limit": 1.05}, projection=projection)
    path = solve_path(MEASURED, wanted)
    assert path.borrowed is not None
    assert path.zoom.max() <= 1.05 * (1 + 1e-9)
    assert ledger(path).gap_frames == 0
    assert ledger(path).borrowed_area > 0.005
    alone = solve_path(MEASURED, treatment(motion, {"zoom_limit": 1.05}, projection=projection))
    assert ledger(path).shake_after_px < 0.6 * ledger(alone).shake_after_px
    for frame in (0, 30, 60, 119):
        lenders = [offset for offset in path.borrowed.offsets if 0 <= frame + offset < len(DINGHY)]
        found = [np.isfinite(seen_in_the_world(path, frame, offset)[:, 0]) for offset in (0, *lenders)]
        assert np.any(found, axis=0).all()


@pytest.mark.parametrize("projection", ["straight", "cylinder"])
def test_what_is_lent_is_the_same_wherever_looking_for_it_begins(projection: str) -> None:
    motion = {"intent": "hold", "freedom": ["shift", "turn"]}
    path = solve_path(MEASURED, treatment(motion, {"way": "borrow", "zoom_limit": 1.5}, projection=projection))
    assert path.borrowed is not None
    assert path.region is not None
    corrected = homographies_between(path.steadied, path.measured)
    found = borrowing_behind(
        path.region,
        lambda offset: homographies_between(path.measured, path.measured, offset) @ corrected,
        path.borrowed.offsets,
        np.arange(len(DINGHY)),
        own=np.zeros(len(DINGHY)),  # from the middle
        count=path.borrowed.reach.shape[1],
    )
    assert 0.3 < path.borrowed.reach.min() < 1
    np.testing.assert_allclose(path.borrowed.reach, found.reach, atol=1e-12)


def test_the_window_may_lie_outside_the_straightened_frame() -> None:
    """Held, the dinghy's window leaves the frame that straightening shows, and stays in what the lens saw."""
    wanted = treatment({"intent": "hold", "freedom": ["shift", "turn"]}, {"zoom_limit": 2.0})
    path = solve_path(MEASURED, wanted)
    quads = path.quads()
    outside = np.abs(quads.real).max() / SIZE.width * 2, np.abs(quads.imag).max() / SIZE.height * 2
    assert max(outside) > 1.05
    assert overhang(path) <= 0.01
    assert 0.5 < ledger(path).kept_area <= 1


def test_gaps_that_are_wanted_stay_and_others_are_counted() -> None:
    motion = {"intent": "hold", "freedom": ["shift", "turn"]}
    wider = treatment(motion, {"zoom_limit": 3.0}, {"canvas": 0.5})
    assert 1 < solve_path(MEASURED, wider).zoom.max() < 2
    left = ledger(solve_path(MEASURED, treatment(motion, {"way": "leave"})))
    assert left.gap_frames > 20
    assert 0.005 < left.gap_area < 0.5


def test_more_zoom_never_leaves_more_shake() -> None:
    curve = trade_off(MEASURED, treatment({"intent": "hold", "freedom": ["shift", "turn", "size"]}), points=6)
    shakes = [point.shake_percent for point in curve]
    assert all(later <= before * 1.02 for before, later in pairwise(shakes))
    assert shakes[-1] < 0.05 * shakes[0]
    assert all(point.zoom <= point.limit * (1 + 1e-9) for point in curve)


def test_parts_make_the_plane() -> None:
    random = np.random.default_rng(3)
    planes = np.eye(3) + random.normal(0, 1, (5, 3, 3)) * [[0.2, 0.2, 40], [0.2, 0.2, 40], [2e-4, 2e-4, 0]]
    parts = parted(planes, SIZE)
    made = parts.correction.matrices()
    made[:, :2, :2] = made[:, :2, :2] @ parts.stretch
    assert np.abs(made @ tilt_matrices(parts.tilt, SIZE) - planes).max() < 1e-9
    assert np.allclose(np.linalg.det(parts.stretch), 1)


def test_a_limit_gives_the_same_path_whatever_was_asked_for_before() -> None:
    """What the preview shows after a drag is what a worker renders, which was asked for nothing before."""
    first, after_others = (
        [solve_path(replace(MEASURED), treatment({"intent": "hold"}, {"zoom_limit": limit})) for limit in limits][-1]
        for limits in ((1.08,), (1.3, 1.02, 1.08))
    )
    again = solve_path(MEASURED, treatment({"intent": "hold"}, {"zoom_limit": 1.3}))
    again = solve_path(MEASURED, treatment({"intent": "hold"}, {"zoom_limit": 1.08, "window": {"x": 3.0}}))
    assert np.abs(first.matrices() - after_others.matrices()).max() < 1e-9
    assert again.nudge.x == 3.0
    assert np.abs(again.correction.t - first.correction.t).max() < 1e-9
