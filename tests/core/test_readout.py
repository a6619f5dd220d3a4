"""How long a camera reads its rows: found on pictures and points whose truth is known, refused where nothing tells."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_points
from keen_horizon.core.glass.shutter import SURE, UNKNOWN, Readout, row_shares
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement, measurement_notes
from keen_horizon.simulator.plane import hand_shake, read_row_by_row

SIZE = Size(640, 360)
COUNT, POINTS = 80, 80

Motion = Callable[[np.ndarray], Similarities]


def seen(poses_at: Motion, readout: float, noise: float = 0.1, turns: int = 0, seed: int = 0) -> Measurement:
    """What a perfect tracker follows: points of consecutive frames, each found where and when its row was read."""
    random = np.random.default_rng(seed)
    sources, targets = [], []
    for frame in range(COUNT - 1):
        source = random.uniform(10, SIZE.width - 10, POINTS) + 1j * random.uniform(10, SIZE.height - 10, POINTS)
        world = placed(poses_at, frame, source, readout, turns)
        target = source
        for _ in range(8):
            now = poses_at(frame + 1 + readout * shares(target, turns))
            target = (world - now.t) / now.z
        errors = random.normal(0, noise, (2, POINTS))
        sources.append(as_points(source))
        targets.append(as_points(target + errors[0] + 1j * errors[1]))
    rows = (np.concatenate(points).astype(np.float32) for points in (sources, targets))
    starts = np.arange(COUNT) * POINTS
    evidence = Evidence(starts, next(rows), np.ones(len(starts[1:]) * POINTS, np.bool_), next(rows), Matches.none())
    return replace(Measurement.still(SIZE, 0, np.arange(COUNT) / 25), evidence=evidence)


def shares(points: np.ndarray, turns: int) -> np.ndarray:
    return row_shares(points - SIZE.centre, SIZE.width, SIZE.height, turns)


def placed(poses_at: Motion, frame: int, points: np.ndarray, readout: float, turns: int) -> np.ndarray:
    poses = poses_at(frame + readout * shares(points, turns))
    return poses.z * points + poses.t


def jittering(seed: int, degrees: float) -> Motion:
    """A hand that jerks anew at every frame, and moves straight on in between."""
    random = np.random.default_rng(seed)
    moments = np.arange(-3, COUNT + 3)
    turns = np.radians(random.normal(0, degrees, len(moments)))
    shift = 1000 * np.radians(random.normal(0, degrees, (len(moments), 2))) @ np.array([1, 1j])

    def at(times: np.ndarray) -> Similarities:
        z = np.exp(1j * np.interp(times, moments, turns))
        t = np.interp(times, moments, shift.real) + 1j * np.interp(times, moments, shift.imag)
        return Similarities(z, t + SIZE.centre - z * SIZE.centre)

    return at


def panning(times: np.ndarray) -> Similarities:
    return Similarities(np.ones(len(times), np.complex128), 4.0 * times + 0j)


@pytest.mark.parametrize(
    ("readout", "seed", "rms", "noise", "turns"),
    [(0.8, 1, 6, 0.1, 0), (-0.55, 2, 4, 0.2, 0), (0.0, 3, 6, 0.1, 0), (0.6, 4, 6, 0.1, 1), (1.0, 5, 6, 0.1, 2)],
)
def test_points_tell_it(readout: float, seed: int, rms: float, noise: float, turns: int) -> None:
    motion = hand_shake(COUNT, SIZE, rms, seed, vibration_px=1.0)
    found = find_readout(seen(motion, readout, noise, turns, seed), turns)
    assert found.enough
    assert found.frames == pytest.approx(readout, abs=0.01 if readout == 0 else 0.02)
    assert 0.5 <= found.confidence <= 1


@pytest.mark.parametrize(
    ("readout", "seed", "noise", "quality"), [(0.7, 11, 1.5, None), (-0.4, 12, 6.0, 60), (0.0, 13, 6.0, 60)]
)
def test_pictures_tell_it(readout: float, seed: int, noise: float, quality: int | None) -> None:
    """Followed as any clip is: clean, noisy, compressed."""
    motion = hand_shake(70, SIZE, 6.0, seed, vibration_px=1.0)
    tracker = MotionTracker.start(SIZE)
    for number, picture in enumerate(read_row_by_row(motion, 70, SIZE, readout, noise, seed)):
        if quality:
            coded = cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, quality])[1]
            picture = cv2.imdecode(coded, cv2.IMREAD_COLOR)
        tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / 25)
    found = find_readout(tracker.finish(0))
    assert found.enough
    assert found.frames == pytest.approx(readout, abs=0.01 if readout == 0 else 0.02)


@pytest.mark.parametrize("readout", [0.0, 0.7])
def test_a_steady_pan_tells_nothing(readout: float) -> None:
    assert not find_readout(seen(panning, readout)).enough


def test_a_camera_that_stands_still_tells_nothing() -> None:
    still = seen(lambda times: Similarities.identity(len(times)), 0.7)
    assert not find_readout(still).enough
    assert find_readout(still).confidence == 0
    assert find_readout(Measurement.still(SIZE, 0, np.arange(50) / 25)) == UNKNOWN


@pytest.mark.parametrize(
    ("readout", "degrees", "seed"), [(0.5, 0.05, 1), (0.8, 0.1, 2), (-0.7, 0.2, 3), (0.9, 0.02, 4)]
)
def test_never_sure_and_wrong_where_a_hand_jerks_between_frames(readout: float, degrees: float, seed: int) -> None:
    found = find_readout(seen(jittering(seed, degrees), readout, seed=seed))
    assert not found.enough or abs(found.frames - readout) <= 0.03


def test_it_is_kept_with_the_measurement_and_told(tmp_path: Path) -> None:
    told = Readout(0.62, SURE / 4, True)
    measurement = replace(seen(panning, 0.0), readout=told)
    measurement.save(tmp_path / "m.npz")
    back = Measurement.load(tmp_path / "m.npz")
    assert back.readout == told
    assert back.part(10, 40).readout == told
    assert back.to_motion_json(1.0)["readout"] == {"frames": 0.62, "confidence": 0.875, "enough": True}
    assert any("over 0.62 of a frame" in note for note in measurement_notes(back))
    assert not any("rows" in note for note in measurement_notes(replace(back, readout=UNKNOWN)))
