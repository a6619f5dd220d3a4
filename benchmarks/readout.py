"""How long rows are read: on photographs and a real film, shaken by hands that are known, row by row.

    .venv/bin/python benchmarks/readout.py FILM [PICTURE ...]

Every picture is filmed with readouts of both signs and none, with a hand's shake and vibration, and noise; the film's
own frames, with all that moves in them, likewise. Says how far each readout is off, and what is told with it. Then the
same of points that a camera sees which turns behind lenses, as made up as those of the tests: flat ones and fisheyes.
"""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.simulator.plane import hand_shake, town_picture

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from turned import Camera, anywhere, followed, swaying  # the tests' made-up cameras

SIZE = Size(640, 360)
COUNT, SHAKE_PX, VIBRATION_PX, NOISE = 150, 6.0, 1.0, 2.0
READOUTS = (0.0, 0.35, -0.6, 0.9)
FLAT, FISHEYES = (50, 70, 90, 110), (60, 80, 95, 110, 130, 150, 170)  # degrees from corner to corner
TURNS = (
    (0.6, 1.5, 0.05),
    (0.0, 1.0, 0.0),
    (-0.8, 1.0, 0.02),
    (0.35, 0.7, 0.03),
)  # readout, degrees of sway, of tremble
TREMBLE = 3  # quarters of a frame within which a hand trembles
LARGER = 1.25  # than the frame, so that shaking shows no border


def filmed(picture_of: Callable[[int], np.ndarray], readout: float, seed: int) -> Iterator[np.ndarray]:
    """Grey frames of pictures, each row seen when it is read."""
    random = np.random.default_rng(seed)
    poses_at = hand_shake(COUNT, SIZE, SHAKE_PX, seed, VIBRATION_PX)
    x, y = np.arange(SIZE.width), np.arange(SIZE.height)
    town = town_picture()
    for number in range(COUNT):
        picture = picture_of(number)
        middle = complex((picture.shape[1] - town.shape[1]) / 2, (picture.shape[0] - town.shape[0]) / 2)
        rows = poses_at(number + readout * ((y + 0.5) / SIZE.height - 0.5))
        seen = rows.z[:, None] * (x + 1j * y[:, None]) + rows.t[:, None] + middle
        maps = seen.real.astype(np.float32), seen.imag.astype(np.float32)
        frame = cv2.remap(picture, *maps, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        yield np.clip(frame + random.normal(0, NOISE, frame.shape), 0, 255).astype(np.uint8)


def fitting(picture: np.ndarray) -> np.ndarray:
    """A grey picture somewhat larger than the frames that are taken of it."""
    scale = LARGER * max(SIZE.width / picture.shape[1], SIZE.height / picture.shape[0])
    kernel = cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC
    return cv2.resize(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), None, fx=scale, fy=scale, interpolation=kernel)


def frames_of(film: Path) -> list[np.ndarray]:
    """The film's frames, fitting."""
    reader, frames = cv2.VideoCapture(str(film)), []
    while len(frames) < COUNT:
        there, frame = reader.read()
        if not there:
            break
        frames.append(fitting(frame))
    return frames


def scenes_asked_for(about: str) -> dict[str, Callable[[int], np.ndarray]]:
    """What the command line names to be filmed: a picture a frame, by name."""
    parser = argparse.ArgumentParser(description=about.split("\n")[0])
    parser.add_argument("film", type=Path)
    parser.add_argument("pictures", nargs="*", type=Path)
    asked = parser.parse_args()
    film = frames_of(asked.film)
    scenes = {asked.film.name: lambda number: film[number]}
    for path in asked.pictures:
        picture = fitting(cv2.imread(str(path)))
        scenes[path.name] = lambda number, picture=picture: picture
    return scenes


def behind_lenses(walk: float) -> None:
    """Print a line a lens: a hand turns the camera, and walks by so many metres a frame."""
    near, far = (8.0, 60.0) if walk else (80.0, 800.0)
    halves = [("flat", np.radians(field / 2)) for field in FLAT] + [("fisheye", np.radians(f / 2)) for f in FISHEYES]
    for kind, half in halves:
        lens = Lens("division", (0.0,)) if kind == "flat" else Lens("equidistant", (half**2,))
        told = []
        for seed, (readout, degrees, trembling) in enumerate(TURNS, 50):
            angles = swaying(COUNT, degrees, seed) + swaying(COUNT, trembling, seed + 99, within=TREMBLE)
            camera = Camera(lens, 1 / (np.tan(half) if kind == "flat" else half), angles, walk, readout)
            found = find_readout(followed(camera, COUNT, lambda r, n: anywhere(r, n, near, far), seed=seed))
            known = "" if found.enough else ", not told"
            told.append(f"{readout:+.2f}: off by {found.frames - readout:+.4f} ({found.doubt:.4f}{known})")
        print(f"{kind} of {2 * np.degrees(half):.0f} degrees, walk {walk}; " + "; ".join(told), flush=True)


def main() -> None:
    """Print a line a picture."""
    for name, picture_of in scenes_asked_for(__doc__).items():
        told = []
        for seed, readout in enumerate(READOUTS, 5):
            tracker = MotionTracker.start(SIZE)
            for number, frame in enumerate(filmed(picture_of, readout, seed)):
                tracker.add(frame, number / 25)
            measurement = tracker.finish(0)
            began = time.perf_counter()
            found = find_readout(measurement)
            took = time.perf_counter() - began
            known = "" if found.enough else ", not told"
            told.append(
                f"{readout:+.2f}: off by {found.frames - readout:+.4f} ({found.doubt:.4f}{known}; {took:.1f} s)"
            )
        print(f"{name}; " + "; ".join(told), flush=True)
    for walk in (0.0, 0.05):
        behind_lenses(walk)


if __name__ == "__main__":
    main()
