"""Accuracy against the simulator's truth, and against real footage with known added shake.

    .venv/bin/python benchmarks/accuracy.py [FIXED_CAMERA_CLIP]

The clip is any film of a camera that stands still; bin/test leaves one at var/footage/vtest.avi.
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex, fit_similarity
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures


def measured(grays: Iterator[np.ndarray], size: Size) -> Measurement:
    tracker = MotionTracker.start(size)
    for number, gray in enumerate(grays):
        tracker.add(gray, number / 30)
    return tracker.finish(0)


def errors(found: Measurement, true: Similarities, size: Size) -> dict[str, float]:
    """Corner errors in px: per pair, and of whole paths after fitting the one free similarity."""
    corners = as_complex(size.corners())
    pairs = true[1:].inverse() @ true[:-1]
    pair = np.abs(found.pairs.apply(corners) - pairs.apply(corners))
    a, b = found.poses.apply(corners).ravel(), true.apply(corners).ravel()
    z, t = fit_similarity(a, b, np.ones(len(a)))
    whole = np.abs(z * a + t - b)
    return {
        "pair RMS px": round(float(np.sqrt((pair**2).mean())), 4),
        "pair worst px": round(float(pair.max()), 4),
        "absolute RMS px": round(float(np.sqrt((whole**2).mean())), 4),
    }


def simulated(size: Size, rms: float, noise: float) -> dict[str, float]:
    poses = jitter(300, size, rms, seed=1)
    pictures = shaken_pictures(poses, size, walkers=3, noise=noise)
    return errors(measured((cv2.cvtColor(p, cv2.COLOR_BGR2GRAY) for p in pictures), size), poses, size)


def degraded(size: Size, rms: float) -> dict[str, float]:
    """Blurred, noisy and heavily compressed, measured from the file."""
    poses = jitter(300, size, rms, seed=2)
    random = np.random.default_rng(2)

    def poor() -> Iterator[np.ndarray]:
        for picture in shaken_pictures(poses, size, walkers=3, noise=0.0):
            blurred = cv2.GaussianBlur(picture, (0, 0), 2.0)
            yield cv2.add(blurred, random.normal(0, 8, picture.shape), dtype=cv2.CV_8U)

    with tempfile.TemporaryDirectory() as folder:
        clip = Path(folder) / "poor.mp4"
        write_pictures(poor(), size, 30, clip, quality=36)
        return errors(measured((frame.luma8() for frame in read_frames(clip)), size), poses, size)


def shaken_footage(clip: Path, size: Size) -> dict[str, float]:
    """A real film, shaken by known similarities."""
    opening = next(read_frames(clip)).luma
    poses = jitter(300, size, 8.0, seed=3, area=(opening.shape[1], opening.shape[0]))
    matrices = poses.matrices()[:, :2]
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    grays = (
        cv2.warpAffine(frame.luma8(), matrices[frame.number], (size.width, size.height), flags=flags)
        for frame in read_frames(clip, 0, 299)
    )
    return errors(measured(grays, size), poses, size)


def main() -> None:
    result = {
        "720p, 18 px RMS, 3 walkers": simulated(Size(1280, 720), 18.0, 1.5),
        "720p, 18 px RMS, 3 walkers, heavy noise": simulated(Size(1280, 720), 18.0, 10.0),
        "720p, 12 px RMS, 3 walkers, blur, noise, crf 36": degraded(Size(1280, 720), 12.0),
    }
    if len(sys.argv) > 1:
        result["real fixed camera, 640x480, 8 px RMS"] = shaken_footage(Path(sys.argv[1]), Size(640, 480))
    print(json.dumps(result, indent=1))


if __name__ == "__main__":
    main()
