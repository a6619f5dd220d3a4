"""Measuring against the simulator's truth: the bars of "First light"."""

import cv2
import numpy as np
import pytest
from truth import SMALL, corner_errors, pair_truth, rms

from keen_horizon.core.errors import MeasurementError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex, fit_similarity
from keen_horizon.core.motion.belief.told import motion_json
from keen_horizon.core.motion.checkpoint import restored_tracker, stored_tracker
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.posegraph import Edges, solve_poses
from keen_horizon.core.motion.tracking import FINER, USUAL, Detail, grid_cells, spread_corners
from keen_horizon.simulator.plane import jitter, shaken_pictures, town_picture

HD = Size(1280, 720)


def measured(poses: Similarities, size: Size, detail: Detail = USUAL, **options: float) -> Measurement:
    tracker = MotionTracker.start(size, detail)
    for number, picture in enumerate(shaken_pictures(poses, size, **options)):
        tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / 30)
    return tracker.finish(0)


def absolute_errors(found: Similarities, true: Similarities, size: Size) -> np.ndarray:
    """Corner errors of whole paths; a path is known up to one similarity, which is fitted away."""
    corners = as_complex(size.corners())
    a, b = found.apply(corners).ravel(), true.apply(corners).ravel()
    z, t = fit_similarity(a, b, np.ones(len(a)))
    return np.abs(z * a + t - b)


def test_pairs_and_absolute_poses_with_people_walking_through() -> None:
    poses = jitter(300, HD, 18.0, seed=1)
    result = measured(poses, HD, walkers=3)
    assert rms(corner_errors(result.pairs, pair_truth(poses), HD)) <= 0.12
    assert rms(absolute_errors(result.poses, poses, HD)) <= 0.20


def test_more_points_in_larger_pictures_are_closer() -> None:
    poses = jitter(60, HD, 9.0, seed=11)
    usual, finer = (measured(poses, HD, detail, noise=4.0) for detail in (USUAL, FINER))
    off = [rms(corner_errors(found.pairs, pair_truth(poses), HD)) for found in (usual, finer)]
    assert off[1] <= 0.75 * off[0]
    assert np.median(finer.tracked) >= 2 * np.median(usual.tracked)


def test_noise_blur_and_no_pair_off_by_a_pixel() -> None:
    poses = jitter(60, SMALL, 5.0, seed=2)
    result = measured(poses, SMALL, walkers=2, noise=9.0)
    errors = corner_errors(result.pairs, pair_truth(poses), SMALL)
    assert rms(errors) <= 0.25
    assert errors.max() < 1.0


def test_key_frames_remove_the_drift_of_a_chain() -> None:
    poses = jitter(150, SMALL, 4.0, seed=3)
    result = measured(poses, SMALL, noise=6.0)
    chained = absolute_errors(Similarities.chain(result.pairs), poses, SMALL)
    joined = absolute_errors(result.poses, poses, SMALL)
    assert rms(joined) < 0.5 * rms(chained)


def test_a_cut_is_found_and_motion_stops_there() -> None:
    tracker = MotionTracker.start(SMALL)
    still = list(shaken_pictures(jitter(4, SMALL, 1.0, seed=4), SMALL))
    random = np.random.default_rng(0)
    other = cv2.resize(random.integers(0, 90, (45, 80), np.uint8), (640, 360), interpolation=cv2.INTER_NEAREST)
    pictures = [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in still] + [other, other]
    for number, picture in enumerate(pictures):
        tracker.add(picture, number / 30)
    result = tracker.finish(0)
    assert result.cut.tolist() == [False, False, False, True, False]
    assert abs(result.poses.z[4] - result.poses.z[3]) < 1e-9


def test_black_stretch_is_marked_blind_and_bridged() -> None:
    poses = jitter(8, SMALL, 0.0, seed=4)
    pictures = [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in shaken_pictures(poses, SMALL)]
    tracker = MotionTracker.start(SMALL)
    for number, picture in enumerate(pictures):
        tracker.add(np.full_like(picture, 16) if number in (3, 4) else picture, number / 30)
    result = tracker.finish(0)
    assert not result.cut[3]
    assert result.blind[3]
    assert np.isfinite(result.poses.t).all()


def test_one_frame_and_none() -> None:
    tracker = MotionTracker.start(SMALL)
    with pytest.raises(MeasurementError):
        tracker.finish(0)
    tracker.add(np.zeros((360, 640), np.uint8), 0.0)
    assert len(tracker.finish(0)) == 1


def test_stored_state_goes_on_as_if_never_stopped() -> None:
    poses = jitter(40, SMALL, 4.0, seed=6)
    pictures = [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in shaken_pictures(poses, SMALL)]
    straight, first = MotionTracker.start(SMALL), MotionTracker.start(SMALL)
    for number, picture in enumerate(pictures):
        straight.add(picture, number / 30)
        if number < 21:
            first.add(picture, number / 30)
    second = restored_tracker(stored_tracker(first))
    for number, picture in enumerate(pictures[21:], start=21):
        second.add(picture, number / 30)
    a, b = straight.finish(0), second.finish(0)
    errors = corner_errors(b.pairs, a.pairs, SMALL)
    assert errors.max() < 0.1
    assert len(b.evidence.points) == pytest.approx(len(a.evidence.points), rel=0.1)


def test_measurement_file_round_trip_and_parts(tmp_path) -> None:
    result = measured(jitter(12, SMALL, 3.0, seed=7), SMALL)
    result.save(tmp_path / "m.npz")
    again = Measurement.load(tmp_path / "m.npz").part(4, 9)
    assert len(again) == 6
    assert np.array_equal(again.pairs.z, result.pairs.z[4:9])
    assert np.array_equal(again.evidence.of_pair(0)[0], result.evidence.of_pair(4)[0])
    (tmp_path / "broken.npz").write_bytes(b"nothing")
    with pytest.raises(MeasurementError, match=r"broken\.npz"):
        Measurement.load(tmp_path / "broken.npz")
    with pytest.raises(MeasurementError, match="not measured"):
        result.part(5, 30)


def test_motion_json_is_in_stored_pixels() -> None:
    result = measured(jitter(3, SMALL, 3.0, seed=8), SMALL)
    document = motion_json(result, pixel_aspect=2.0)
    assert document["width"] == 320
    pair = document["pairs"][0]
    point = np.array([100.0, 50.0])
    display = np.array([(point[0] + 0.5) * 2 - 0.5, point[1], 1.0])
    moved = result.pairs.matrices()[0] @ display
    found = np.array(pair["matrix"]) @ [*point, 1.0]
    assert found[:2] == pytest.approx([(moved[0] + 0.5) / 2 - 0.5, moved[1]])


def test_corners_are_spread_and_cells_follow_x_and_y() -> None:
    gray = cv2.cvtColor(town_picture(), cv2.COLOR_BGR2GRAY)[300:660, 300:940]
    points = spread_corners(np.ascontiguousarray(gray))
    cells = grid_cells(points, gray.shape)
    assert len(np.unique(cells)) > 60
    assert np.bincount(cells).max() <= 2
    assert grid_cells(np.array([[639.0, 0.0]]), (360, 640))[0] == 15
    assert grid_cells(np.array([[0.0, 359.0]]), (360, 640))[0] == 16 * 8


def test_pose_graph_outvotes_a_wrong_edge() -> None:
    true = jitter(20, SMALL, 5.0, seed=9)
    pairs = pair_truth(true)
    far = np.arange(2, 20)
    links = true[far].inverse() @ Similarities(np.repeat(true.z[:1], 18), np.repeat(true.t[:1], 18))
    wrong = links.t.copy()
    wrong[6] += 40
    edges = Edges(
        np.r_[np.arange(19), np.zeros(18, int)],
        np.r_[np.arange(1, 20), far],
        Similarities(np.r_[pairs.z, links.z], np.r_[pairs.t, wrong]),
        np.full(37, SMALL.centre),
        np.full(37, 0.1),
    )
    poses = solve_poses(edges, Similarities.chain(pairs), SMALL.half_diagonal / 2)
    assert absolute_errors(poses, true, SMALL).max() < 0.05
