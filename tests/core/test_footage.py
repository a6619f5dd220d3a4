"""Footage that bites: flashes, black stretches, cuts, repeats, very short and very long clips, odd shapes."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from truth import SMALL, corner_errors, rms
from walks import moved, treated, walked

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.mapping.gaps import border_overhang
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.motion.checkpoint import restored_tracker, stored_tracker
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.core.path.figures import shake
from keen_horizon.simulator.plane import jitter, shaken_pictures


def pictures(poses: Similarities, size: Size = SMALL, **options: float) -> list[np.ndarray]:
    return [cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in shaken_pictures(poses, size, **options)]


def measured(frames: list[np.ndarray], size: Size = SMALL, rate: float = 30) -> Measurement:
    tracker = MotionTracker.start(size)
    for number, frame in enumerate(frames):
        tracker.add(frame, number / rate)
        if number == 7:  # any moment may be a checkpoint
            tracker = restored_tracker(stored_tracker(tracker))
    return tracker.finish(0)


@pytest.mark.parametrize(("shade", "hidden"), [(250, (6,)), (250, (6, 7)), (16, tuple(range(6, 20)))])
def test_motion_is_carried_across_flashes_and_black(shade: int, hidden: tuple[int, ...]) -> None:
    poses = jitter(30, SMALL, 3.0, seed=4)
    frames = [np.full_like(f, shade) if n in hidden else f for n, f in enumerate(pictures(poses))]
    result = measured(frames)
    seen = np.setdiff1d(np.arange(30), hidden)
    true = poses[:1].inverse() @ Similarities(poses.z[29:], poses.t[29:])
    found = result.poses[:1].inverse() @ result.poses[29:]
    assert not result.cut.any()
    assert result.blind[hidden[0] - 1 : hidden[-1] + 1].all()
    assert result.blind.sum() == len(hidden) + 1
    assert corner_errors(found, true, SMALL).max() < 0.3
    assert f"frames {hidden[0] - 1}-{hidden[-1] + 1}" in measurement_notes(result)[0]
    steady = treated(result, {"intent": "hold"}, {"way": "leave"})
    left = (poses[seen] @ Similarities(steady.correction.z[seen], steady.correction.t[seen]).about(-SMALL.centre)).t
    assert rms(np.abs(left - left.mean())) < 0.5


def test_a_cut_stays_a_cut_and_is_named() -> None:
    one = pictures(jitter(12, SMALL, 3.0, seed=1))
    other = [np.ascontiguousarray(255 - cv2.flip(f, 1)) for f in pictures(jitter(12, SMALL, 3.0, seed=2))]
    result = measured(one + other)
    assert np.flatnonzero(result.cut).tolist() == [11]
    assert measurement_notes(result) == ("A new shot begins at frame 12. Every shot is steadied by itself.",)


def test_repeated_frames_are_noted() -> None:
    frames = pictures(jitter(20, SMALL, 3.0, seed=6), noise=2.0)
    for n in (5, 10, 15):
        frames[n] = frames[n - 1]
    result = measured(frames)
    assert np.flatnonzero(result.repeated).tolist() == [4, 9, 14]
    assert "3 frames repeat" in measurement_notes(result)[0]
    assert np.abs(result.pairs.t[[4, 9, 14]]).max() < 0.05


@pytest.mark.parametrize("count", [1, 2, 3, 4, 5])
@pytest.mark.parametrize("intent", ["glide", "hold", "level"])
def test_very_short_clips(count: int, intent: str) -> None:
    result = measured(pictures(jitter(count, SMALL, 3.0, seed=7)))
    for edges in ("fill", "trim", "leave", "borrow"):
        path = treated(result, {"intent": intent}, {"way": edges})
        assert len(path) == count
        assert np.isfinite(path.matrices()).all()
        assert path.zoom.max() <= 1.1 + 1e-9


@pytest.mark.parametrize("size", [Size(360, 640), Size(480, 480)])
def test_portrait_and_square(size: Size) -> None:
    poses = jitter(30, size, 5.0, seed=8)
    result = measured(pictures(poses, size), size)
    path = treated(result, {"intent": "hold"}, {"zoom_limit": 1.5})
    assert shake(path.steadied.poses, size) < 0.05 * shake(path.measured.poses, size)
    assert max(border_overhang(frame_map(path), n) for n in range(30)) <= 0.01


def test_a_panning_and_zooming_camera_keeps_its_move() -> None:
    count = 120
    shaken = jitter(count, SMALL, 3.0, seed=9)
    share = np.linspace(0, 1, count)
    move = Similarities(np.exp(-0.25 * share).astype(complex), 180 * share + 0j)
    poses = shaken @ move.about(-SMALL.centre)
    path = treated(measured(pictures(poses)), {}, {"zoom_limit": 1.6})
    steadied = poses @ path.correction.about(-SMALL.centre)
    assert shake(steadied.about(SMALL.centre), SMALL) < 0.1 * shake(poses.about(SMALL.centre), SMALL)
    middle = steadied.apply(np.array([SMALL.centre]))[:, 0]
    assert abs((middle[-10] - middle[10]) / (119 - 20)) == pytest.approx(180 / count, rel=0.25)
    assert abs(steadied.z[-10] / steadied.z[10]) == pytest.approx(np.exp(-0.25 * 100 / count), rel=0.03)


def test_a_hundred_and_twenty_frames_a_second_mean_the_same_seconds() -> None:
    frames = np.arange(960)
    for rate, step in ((120, 1), (30, 4)):
        sway = 30 * np.sin(2 * np.pi * frames[::step] / 120 / 0.8)
        count = len(sway)
        still = walked(count, 0, 0.0, pan=0.0)
        poses = Similarities(np.ones(count, complex), sway + 0j)
        path = treated(moved(still, poses, times=np.arange(count) / rate), {"response_s": 0.8}, {"way": "leave"})
        kept = np.abs(path.steadied.poses.t[count // 4 : -count // 4].real).max() / 30
        assert kept == pytest.approx(0.5, abs=0.02)


def test_low_texture_says_where_it_could_not_see() -> None:
    random = np.random.default_rng(1)
    sky = cv2.GaussianBlur(random.normal(0, 1, (360, 640)), (0, 0), 40) * 300 + 180
    result = measured([np.clip(sky + random.normal(0, 1, sky.shape), 0, 255).astype(np.uint8) for _ in range(12)])
    assert result.blind.all()
    assert "Nothing could be followed in any frame" in measurement_notes(result)[0]
    assert treated(result).zoom == pytest.approx(1, abs=1e-6)


def test_ten_minutes_are_solved_in_windows() -> None:
    """18,000 frames: within the limits everywhere, and as the parts would be by themselves."""
    measurement = walked(18_000, 11)
    path = treated(measurement, {"response_s": 1.0}, {"zoom_limit": 1.04})
    assert path.limited
    assert path.zoom.max() <= 1.04 + 1e-9
    assert max(border_overhang(frame_map(path), n) for n in range(0, 18_000, 37)) <= 0.01
    alone = treated(measurement.part(4000, 6400), {"response_s": 1.0}, {"zoom_limit": 1.04})
    apart = np.abs(path.correction.t[4500:5900] - alone.correction.t[500:1900])
    assert apart.max() < 0.5
    assert treated(measurement, {"intent": "hold"}, {"zoom_limit": 1.04}).zoom.max() <= 1.04 + 1e-9
