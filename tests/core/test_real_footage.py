"""A real film of a camera that stands still, shaken by known similarities (bin/test fetches it)."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np
import pytest
from truth import corner_errors, pair_truth, rms

from keen_horizon.config import PROJECT
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex, fit_similarity
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.motion.flat_thing import Seen, follow_flat_thing
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.simulator.plane import jitter

CLIP = PROJECT / "var" / "footage" / "vtest.avi"
SIZE = Size(640, 480)


pytestmark = pytest.mark.skipif(not CLIP.exists(), reason="Debian's opencv-doc could not be fetched")


def shaken(frames: int, rms_px: float) -> tuple[Similarities, Iterator[np.ndarray]]:
    """Known poses picture_from_frame (N,) and the film's luma as a camera shaken so would have seen it."""
    opening = next(read_frames(CLIP)).luma
    poses = jitter(frames, SIZE, rms_px, seed=3, area=(opening.shape[1], opening.shape[0]))
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    pictures = (
        cv2.warpAffine(frame.luma8(), matrix[:2], (640, 480), flags=flags)
        for frame, matrix in zip(read_frames(CLIP, 0, frames - 1), poses.matrices(), strict=True)
    )
    return poses, pictures


def test_known_shake_on_real_footage() -> None:
    poses, pictures = shaken(200, 8.0)
    tracker = MotionTracker.start(SIZE)
    for number, luma in enumerate(pictures):
        tracker.add(luma, number / 10)
    found = tracker.finish(0)
    assert rms(corner_errors(found.pairs, pair_truth(poses), SIZE)) <= 0.12
    corners = as_complex(SIZE.corners())
    a, b = found.poses.apply(corners).ravel(), poses.apply(corners).ravel()
    z, t = fit_similarity(a, b, np.ones(len(a)))
    assert rms(np.abs(z * a + t - b)) <= 0.20


def test_a_flat_thing_is_held_while_people_walk_over_it() -> None:
    poses, pictures = shaken(80, 8.0)
    corners = np.array([[300.0, 250], [520, 215], [620, 350], [380, 370]])

    def seen(luma: np.ndarray) -> Seen:
        return lambda places: cv2.remap(
            luma, places[..., 0].astype(np.float32), places[..., 1].astype(np.float32), cv2.INTER_LINEAR
        )

    found, confidence = follow_flat_thing((seen(luma) for luma in pictures), corners)
    truth = (poses.inverse() @ poses[np.zeros(80, int)]).apply(as_complex(corners))
    apart = np.abs(found[..., 0] + 1j * found[..., 1] - truth)
    print(f"paving: {rms(apart):.2f} px RMS, {apart.max():.2f} at most")
    assert (confidence > 0).all()
    assert rms(apart) <= 0.4
