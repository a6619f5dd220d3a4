"""A pinned place of what stands still, that people walk past: a film of a camera that stood still, shaken as known.

    .venv/bin/python benchmarks/pinning.py var/footage/vtest.avi [--from FRAME] [--frames N]

Ten places with something to see on the first frame are pinned that people cover for a while. Says for each, over all
frames, hidden ones too, how far it strays from where it is held in the mean: RMS and worst, px; how far that is from
where it was set; and in how many frames it was hidden.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.media.probe import probe
from keen_horizon.core.treatment.motion import Mark, PinPoint
from keen_horizon.pipeline.measuring import measure_clip
from keen_horizon.pipeline.pinning import pin_clip
from keen_horizon.simulator.film import write_pictures

RATE = 25
BORDER = np.array([96, 72])  # px that shaking takes off a picture
CHANGED = 25  # levels from the film's median: somebody is there
COVERED = (0.06, 0.35)  # of the frames
APART_PX, MANY = 50, 10


def shake(count: int, size: Size, whole: Size, seed: int) -> Similarities:
    """Known poses frame_from_film (N,)."""
    random = np.random.default_rng(seed)

    def swaying(rms: float, frames: float) -> np.ndarray:
        found = gaussian_filter1d(random.normal(size=count + 80), frames)[40:-40]
        return np.asarray(rms * found / found.std())

    shift = swaying(8, 3) + 1j * swaying(8, 3)
    z = np.exp(swaying(0.003, 4) + 1j * swaying(0.008, 3))
    return Similarities(z, size.centre + shift - z * whole.centre)


def places(film: np.ndarray) -> list[tuple[int, int]]:
    """Places (x, y) that are seen on the first frame, with something to see, and covered later for a while."""
    usual = np.median(film[::4], 0).astype(np.uint8)
    covered = cv2.blur((np.abs(film.astype(np.int16) - usual) > CHANGED).mean(0).astype(np.float32), (25, 25))
    free = cv2.erode((np.abs(film[0].astype(np.int16) - usual) < 20).astype(np.uint8), np.ones((41, 41)))
    corners = cv2.cornerMinEigenVal(cv2.GaussianBlur(usual, (0, 0), 1.5), 9)
    score = np.where((covered > COVERED[0]) & (covered < COVERED[1]), corners, 0) * free
    score[:80] = score[-80:] = score[:, :100] = score[:, -100:] = 0
    found = []
    while len(found) < MANY and score.max() > 0:
        y, x = (int(at) for at in np.unravel_index(score.argmax(), score.shape))
        found.append((x, y))
        score[max(0, y - APART_PX) : y + APART_PX, max(0, x - APART_PX) : x + APART_PX] = 0
    return found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("film", type=Path)
    parser.add_argument("--from", dest="first", type=int, default=300)
    parser.add_argument("--frames", type=int, default=240)
    given = parser.parse_args()
    film = np.stack([f.luma8() for f in read_frames(given.film, given.first, given.first + given.frames - 1)])
    whole = Size(film.shape[2], film.shape[1])
    size = Size(*(np.array([whole.width, whole.height]) - BORDER))
    poses = shake(len(film), size, whole, given.first)
    with tempfile.TemporaryDirectory() as folder:
        clip = Path(folder) / "shaken.mp4"
        shown = (
            cv2.warpAffine(frame, matrix[:2], (size.width, size.height), flags=cv2.INTER_CUBIC)
            for frame, matrix in zip(film, poses.matrices(), strict=True)
        )
        write_pictures((cv2.cvtColor(f, cv2.COLOR_GRAY2BGR) for f in shown), size, RATE, clip, quality=14)
        info, times = probe(clip)
        measurement = measure_clip(clip, info, times, 0, info.frames - 1)
        for x, y in places(film):
            true = poses.z * complex(x, y) + poses.t
            mark = Mark(frame=0, x=true[0].real, y=true[0].imag)
            trail = pin_clip(clip, info, times, 0, info.frames - 1, PinPoint(marks=(mark,)), motion=measurement).trail
            off = (trail.points - true)[1:]
            moved = np.abs(off - off.mean())
            print(
                f"{x:4d}, {y:4d}: {np.sqrt((moved**2).mean()):.3f} px RMS, {moved.max():.2f} at worst; "
                f"{abs(off.mean()):.2f} from where it was set; hidden in {(trail.confidence <= 0).sum()} frames",
                flush=True,
            )


if __name__ == "__main__":
    main()
