"""A real film of a camera that stands still, shaken by known similarities (bin/test fetches it)."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from truth import corner_errors, pair_truth, rms

from keen_horizon.config import PROJECT
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import as_complex, fit_similarity
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.simulator.plane import jitter

CLIP = PROJECT / "var" / "footage" / "vtest.avi"
SIZE = Size(640, 480)


@pytest.mark.skipif(not CLIP.exists(), reason="Debian's opencv-doc could not be fetched")
def test_known_shake_on_real_footage() -> None:
    frames = 200
    opening = next(read_frames(CLIP)).luma
    poses = jitter(frames, SIZE, 8.0, seed=3, area=(opening.shape[1], opening.shape[0]))
    tracker = MotionTracker.start(SIZE)
    for frame, matrix in zip(read_frames(CLIP, 0, frames - 1), poses.matrices(), strict=True):
        flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        tracker.add(cv2.warpAffine(frame.luma8(), matrix[:2], (640, 480), flags=flags), frame.number / 10)
    found = tracker.finish(0)
    assert rms(corner_errors(found.pairs, pair_truth(poses), SIZE)) <= 0.12
    corners = as_complex(SIZE.corners())
    a, b = found.poses.apply(corners).ravel(), poses.apply(corners).ravel()
    z, t = fit_similarity(a, b, np.ones(len(a)))
    assert rms(np.abs(z * a + t - b)) <= 0.20
