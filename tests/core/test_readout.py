"""How long a camera reads its rows: found on pictures and points whose truth is known, refused where nothing tells."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from rows import COUNT, SIZE, jittering, seen
from turned import Camera, anywhere, followed, swaying

from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.glass.shutter import SURE, UNKNOWN, Readout
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.motion.belief.told import motion_json
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.simulator.plane import hand_shake, read_row_by_row


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
    assert not find_readout(seen(lambda times: Similarities.identity(len(times)), 0.7, noise=0.0)).enough
    assert find_readout(Measurement.still(SIZE, 0, np.arange(50) / 25)) == UNKNOWN


@pytest.mark.parametrize(
    ("readout", "degrees", "seed"), [(0.5, 0.05, 1), (0.8, 0.1, 2), (-0.7, 0.2, 3), (0.9, 0.02, 4)]
)
def test_never_sure_and_wrong_where_a_hand_jerks_between_frames(readout: float, degrees: float, seed: int) -> None:
    found = find_readout(seen(jittering(seed, degrees), readout, seed=seed))
    assert not found.enough or abs(found.frames - readout) <= 0.03


MISSING = np.delete(np.arange(COUNT + 3.0), [30, 31, 60])
WAVERING = np.cumsum(np.random.default_rng(5).choice([1.0, 1.02, 1.25, 1.5], COUNT, p=[0.4, 0.2, 0.2, 0.2]))


@pytest.mark.parametrize("frames", [MISSING, WAVERING], ids=["frames are missing", "a phone's rate wavers"])
@pytest.mark.parametrize(("readout", "seed"), [(0.7, 21), (-0.5, 22), (0.0, 23)])
def test_frames_that_are_not_even(frames: np.ndarray, readout: float, seed: int) -> None:
    motion = hand_shake(int(frames[-1]) + 2, SIZE, 6.0, seed, vibration_px=1.0)
    found = find_readout(seen(motion, readout, seed=seed, frames=frames))
    assert found.enough
    assert found.frames == pytest.approx(readout, abs=0.01 if readout == 0 else 0.02)


@pytest.mark.parametrize(("field", "readout"), [(110, -0.8), (130, 0.6), (150, 0.0)])
def test_a_wide_lens_does_not_mislead_it(field: float, readout: float) -> None:
    """A flat picture's readout is 0.018 and more off there, or not told."""
    half = np.radians(field / 2)
    angles = swaying(130, 1.5, field) + swaying(130, 0.05, field + 1, within=3)
    camera = Camera(Lens("equidistant", (half**2,)), 1 / half, angles, readout=readout)
    found = find_readout(followed(camera, 130, far_away))
    assert found.enough
    assert found.frames == pytest.approx(readout, abs=0.01)


def far_away(random: np.random.Generator, count: int) -> np.ndarray:
    return anywhere(random, count, 80.0, 800.0)


def test_it_is_kept_with_the_measurement_and_told(tmp_path: Path) -> None:
    told = Readout(0.62, SURE / 4, True)
    measurement = replace(seen(panning, 0.0), readout=told)
    measurement.save(tmp_path / "m.npz")
    back = Measurement.load(tmp_path / "m.npz")
    assert back.readout == told
    assert back.part(10, 40).readout == told
    assert motion_json(back, 1.0)["readout"] == {"frames": 0.62, "confidence": 0.875, "enough": True}
    assert any("over 0.62 of a frame" in note for note in measurement_notes(back))
    assert not any("rows" in note for note in measurement_notes(replace(back, readout=UNKNOWN)))
