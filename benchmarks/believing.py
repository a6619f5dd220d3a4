"""What the measurement believes: films staged from photographs, things moving before a scene, all motions known.

    .venv/bin/python benchmarks/believing.py FOLDER_OF_PICTURES [--only NAME ...] [--set built | unseen]

The folder is Debian's opencv-doc's examples/data. Says for every film how many pairs are off by over 1 px at a corner,
the RMS and the worst, how sure the measurement is of itself, how often it is wrongly sure, and how far what it suggests
as moving by itself overlaps with what does. Where a film is compressed, the truth is what its encoder shows.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities, as_complex, as_points, fit_similarity
from keen_horizon.core.media.frames import read_frames
from keen_horizon.core.motion.belief.doubts import confidence_of
from keen_horizon.core.motion.belief.subjects import find_subjects
from keen_horizon.core.motion.measure import MotionTracker
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.robust import fit_tracks
from keen_horizon.core.motion.tracking import follow, spread_corners
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.staged import Sheet, laid_out, shape, staged

SIZE = Size(960, 540)
COUNT = 200
RATE = 30
GRID = as_complex(np.stack([a.ravel() for a in np.meshgrid(np.linspace(0, 959, 9), np.linspace(0, 539, 7))], -1))


@dataclass(frozen=True)
class Film:
    """A staged film: sheets from the rearmost, how it is spoilt, and which of both sets it belongs to."""

    name: str
    sheets: list[Sheet]
    unseen: bool
    noise: float = 1.5
    blur: float = 0.0
    quality: int | None = None


class Stage:
    """Makes films out of a folder of pictures; every film has its own seed."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.folder = folder
        self.random = np.random.default_rng(seed)

    def picture(self, name: str, width: int, height: int | None = None) -> np.ndarray:
        """A grey picture at least so large, cropped to its middle."""
        picture = cv2.imread(str(self.folder / name), cv2.IMREAD_GRAYSCALE)
        height = height or round(width * 9 / 16)
        scale = max(width / picture.shape[1], height / picture.shape[0])
        kernel = cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC
        larger = cv2.resize(picture, None, fx=scale, fy=scale, interpolation=kernel)
        left, top = (larger.shape[1] - width) // 2, (larger.shape[0] - height) // 2
        return larger[top : top + height, left : left + width]

    def swaying(self, rms: float, frames: float) -> np.ndarray:
        """Smooth noise (COUNT,)."""
        found = gaussian_filter1d(self.random.normal(size=COUNT + 80), frames)[40:-40]
        return np.asarray(rms * found / found.std())

    def shake(self, rms: float = 9.0) -> np.ndarray:
        """How a hand moves a picture (COUNT,), px."""
        return (
            self.swaying(rms, 3.0)
            + 1j * self.swaying(rms, 3.0)
            + 0.1 * rms * (self.random.normal(size=COUNT) + 1j * self.random.normal(size=COUNT))
        )

    def turned(self) -> np.ndarray:
        """How a hand turns and scales it (COUNT,)."""
        return np.exp(self.swaying(0.004, 4.0) + 1j * self.swaying(0.008, 3.0))

    def scene(self, name: str, pan: float = 0.0, blur: float = 0.0) -> tuple[Sheet, np.ndarray, np.ndarray]:
        """The rearmost sheet, with its shift and turn, panning by so many px a frame."""
        picture = self.picture(name, 1500 + round(abs(pan) * COUNT))
        if blur:
            picture = cv2.GaussianBlur(picture, (0, 0), blur)
        shift = SIZE.centre + self.shake() + pan * (np.arange(COUNT) - COUNT / 2)
        z = self.turned()
        return Sheet.of(picture, laid_out(shift, z, picture)), shift, z

    def thing(self, name: str, share: float, middle: np.ndarray, z: np.ndarray, tall: float = 1.4) -> Sheet:
        """Something with an outline that covers a share of the frame."""
        width = np.sqrt(share * SIZE.width * SIZE.height / tall / 0.9)
        picture = self.picture(name, round(width), round(width * tall))
        return Sheet.of(picture, laid_out(middle, z, picture), shape(picture))

    def across(self, speed: float, height: float = 0.55, begin: float = 0.0) -> np.ndarray:
        """Something that crosses the frame (COUNT,), again and again, walking."""
        path = (begin * SIZE.width + speed * np.arange(COUNT) + SIZE.width / 2) % (2 * SIZE.width) - SIZE.width / 2
        return path + 1j * (height * SIZE.height + 4 * np.sin(np.arange(COUNT) * 0.5))


def mover(stage: Stage, scene: str, thing: str, share: float, speed: float, **more: object) -> list[Sheet]:
    """A thing that passes before a shaken scene, by itself: also shaken by the camera."""
    back, shift, z = stage.scene(scene, **more)
    middle = stage.across(speed) + (shift - SIZE.centre)
    return [back, stage.thing(thing, share, middle, z * np.exp(stage.swaying(0.01, 8.0)))]


def held(stage: Stage, scene: str, thing: str, share: float, blur: float, pan: float = 1.5) -> list[Sheet]:
    """A subject that is held in the middle, sharp, before a street that goes by, soft."""
    back, _, _ = stage.scene(scene, pan, blur)
    middle = SIZE.centre + 40 + stage.swaying(3, 6) + 1j * stage.swaying(3, 6) + 20j
    return [back, stage.thing(thing, share, middle, np.exp(stage.swaying(0.004, 8) + 1j * stage.swaying(0.006, 8)))]


def depths(stage: Stage, scene: str, nearer: list[tuple[str, float, float]], walk: float = 2.0) -> list[Sheet]:
    """Ground in steps of depth: each (picture, top edge as a share of the height, times nearer than the scene)."""
    back, shift, z = stage.scene(scene, walk)
    sheets = [back]
    drift = walk * (np.arange(COUNT) - COUNT / 2) + stage.swaying(14, 9)
    for name, top, ratio in nearer:
        picture = stage.picture(name, round(1700 + abs(walk) * ratio * COUNT), 620)
        opaque = np.ones(picture.shape)
        edge = 14 * np.sin(np.arange(picture.shape[1]) / 37) + 16
        opaque[np.arange(picture.shape[0])[:, None] < edge] = 0
        own = complex(SIZE.width / 2, top * SIZE.height + picture.shape[0] / 2 - 16)
        middle = own + (shift - SIZE.centre - walk * (np.arange(COUNT) - COUNT / 2)) + ratio * drift
        sheets.append(Sheet.of(picture, laid_out(middle, z, picture), opaque))
    behind = Sheet.of(back.picture, laid_out(shift - walk * (np.arange(COUNT) - COUNT / 2) + drift, z, back.picture))
    return [behind, *sheets[1:]]


def crowd(stage: Stage, scene: str, things: list[str], many: int, share: float) -> list[Sheet]:
    """Many small things that go their own ways."""
    back, shift, z = stage.scene(scene)
    sheets = [back]
    for number in range(many):
        speed = stage.random.uniform(2, 7) * stage.random.choice([-1, 1])
        path = stage.across(speed, stage.random.uniform(0.35, 0.85), stage.random.uniform(0, 2))
        sheets.append(stage.thing(things[number % len(things)], share, path + shift - SIZE.centre, z, 2.0))
    return sheets


def water(stage: Stage, scene: str, top: float) -> list[Sheet]:
    """A shore with a river below it: two sheets of waves that flow at their own speeds."""
    back, shift, z = stage.scene(scene)
    sheets = [back]
    for flow, through in ((4.0, 1.0), (-2.5, 0.5)):
        noise = cv2.GaussianBlur(stage.random.normal(size=(500, 2600)), (0, 0), 6, sigmaY=2)
        picture = np.clip(120 + 40 * noise / noise.std(), 0, 255).astype(np.uint8)
        opaque = np.full(picture.shape, through)
        opaque[:4] = 0
        middle = complex(SIZE.width / 2, top * SIZE.height + 250) + shift - SIZE.centre
        middle = middle + flow * (np.arange(COUNT) - COUNT / 2) + stage.swaying(5, 5)
        sheets.append(Sheet.of(picture, laid_out(middle, z, picture), opaque))
    return sheets


def about_axis(axis: int, angle: float) -> np.ndarray:
    """A turn about x, y or z, radians."""
    return cv2.Rodrigues(angle * np.eye(3)[axis])[0]


def wide_pan(stage: Stage, scene: str, thing: str | None, focal: float = 0.42, turn: float = 0.25) -> list[Sheet]:
    """A rectilinear wide lens that pans by degrees a frame; focal length in widths."""
    picture = stage.picture(scene, 3000, 1500)
    f, middle = focal * SIZE.width, (SIZE.width / 2 - 0.5, SIZE.height / 2 - 0.5)
    lens = np.array([[f, 0, middle[0]], [0, f, middle[1]], [0, 0, 1]])
    own = np.array([[1 / 620, 0, -1500 / 620], [0, 1 / 620, -750 / 620], [0, 0, 1]])
    yaw = np.radians(turn * (np.arange(COUNT) - COUNT / 2) * 0.5) + np.radians(stage.swaying(0.6, 4))
    pitch, roll = np.radians(stage.swaying(0.5, 4)), np.radians(stage.swaying(0.5, 4))
    angles = zip(pitch, yaw, roll, strict=True)
    turns = np.array([about_axis(0, p) @ about_axis(1, y) @ about_axis(2, r) for p, y, r in angles])
    sheets = [Sheet.of(picture, lens @ turns @ own)]
    if thing is not None:
        sheets.append(stage.thing(thing, 0.2, stage.across(4.0), stage.turned()))
    return sheets


def films(folder: Path) -> Iterator[tuple[str, bool, Callable[[], Film]]]:
    """Name, whether it was unseen while building, and how it is made."""

    def entry(name: str, unseen: bool, seed: int, make: Callable[[Stage], list[Sheet]], **spoilt: object):
        return name, unseen, lambda: Film(name, make(Stage(folder, seed)), unseen, **spoilt)

    m, h, d, c, w, p = mover, held, depths, crowd, water, wide_pan
    yield entry("plain building", False, 1, lambda s: [s.scene("building.jpg")[0]])
    yield entry("mover 33 % home", False, 2, lambda s: m(s, "home.jpg", "baboon.jpg", 0.33, 5))
    yield entry("mover 45 % leuven", False, 3, lambda s: m(s, "leuvenA.jpg", "graf1.png", 0.45, 4))
    yield entry("mover 20 % fruits, crf 36", False, 4, lambda s: m(s, "fruits.jpg", "stuff.jpg", 0.2, 7), quality=36)
    yield entry("held 30 % board, soft 6", False, 5, lambda s: h(s, "building.jpg", "board.jpg", 0.3, 6))
    yield entry("held 25 % stuff, soft 4", False, 6, lambda s: h(s, "home.jpg", "stuff.jpg", 0.25, 4))
    yield entry("two depths 1.6", False, 7, lambda s: d(s, "building.jpg", [("graf1.png", 0.5, 1.6)]))
    yield entry(
        "three depths", False, 8, lambda s: d(s, "home.jpg", [("leuvenA.jpg", 0.45, 1.4), ("fruits.jpg", 0.75, 2.2)])
    )
    yield entry(
        "crowd of 12", False, 9, lambda s: c(s, "leuvenA.jpg", ["messi5.jpg", "fruits.jpg", "baboon.jpg"], 12, 0.03)
    )
    yield entry("water below 0.5", False, 10, lambda s: w(s, "building.jpg", 0.5))
    yield entry(
        "blur 2.5, mover 30 %", False, 11, lambda s: m(s, "building.jpg", "baboon.jpg", 0.3, 4), blur=2.5, noise=4.0
    )
    yield entry("wide pan, mover", False, 12, lambda s: p(s, "graf1.png", "messi5.jpg"))
    yield entry("plain aero", True, 21, lambda s: [s.scene("aero1.jpg")[0]])
    yield entry("mover 40 % graf", True, 22, lambda s: m(s, "graf3.png", "aero3.jpg", 0.4, 5))
    yield entry("mover 25 % board", True, 23, lambda s: m(s, "board.jpg", "cards.png", 0.25, 8))
    yield entry("mover 33 % aloe, crf 36", True, 24, lambda s: m(s, "aloeL.jpg", "butterfly.jpg", 0.33, 5), quality=36)
    yield entry("held 30 % baboon, soft 5", True, 25, lambda s: h(s, "leuvenB.jpg", "baboon.jpg", 0.3, 5))
    yield entry("held 35 % cards, soft 3", True, 26, lambda s: h(s, "graf3.png", "cards.png", 0.35, 3))
    yield entry("two depths 2.5", True, 27, lambda s: d(s, "leuvenB.jpg", [("aero1.jpg", 0.55, 2.5)]))
    yield entry(
        "four depths",
        True,
        28,
        lambda s: d(s, "graf3.png", [("board.jpg", 0.4, 1.3), ("stuff.jpg", 0.6, 1.8), ("aero3.jpg", 0.8, 2.5)]),
    )
    yield entry(
        "crowd of 20",
        True,
        29,
        lambda s: c(s, "starry_night.jpg", ["squirrel_cls.jpg", "butterfly.jpg", "cards.png"], 20, 0.025),
    )
    yield entry("water below 0.45", True, 30, lambda s: w(s, "aero3.jpg", 0.45))
    yield entry("blur 2, mover 35 %", True, 31, lambda s: m(s, "board.jpg", "graf1.png", 0.35, 6), blur=2.0, noise=4.0)
    yield entry("wide pan", True, 32, lambda s: p(s, "aero1.jpg", None))


def frames_of(film: Film) -> Iterator[np.ndarray]:
    """The film's grey frames, as they come out of a file where it is compressed."""
    shown = (frame for frame, _ in staged(film.sheets, SIZE, film.noise, film.blur, seed=3))
    if film.quality is None:
        yield from shown
        return
    with tempfile.TemporaryDirectory() as folder:
        clip = Path(folder) / "film.mp4"
        write_pictures((cv2.cvtColor(f, cv2.COLOR_GRAY2BGR) for f in shown), SIZE, RATE, clip, quality=film.quality)
        for frame in read_frames(clip):
            yield frame.luma8()


def measured(frames: list[np.ndarray]) -> tuple[Measurement, float]:
    """The measurement, and how long measuring took, s."""
    tracker, began = MotionTracker.start(SIZE), time.perf_counter()
    for number, gray in enumerate(frames):
        tracker.add(gray, number / RATE)
    found = tracker.finish(0)
    return found, time.perf_counter() - began


def moved_by_encoder(film: Film, frames: list[np.ndarray]) -> Similarities:
    """shown_from_true (N,) of a compressed film's background: a heavy encoder shows it beside where it was filmed."""
    moved = []
    for gray, (clean, sheet) in zip(frames, staged(film.sheets, SIZE, 0.0), strict=True):
        corners = spread_corners(clean)
        behind = sheet[corners[:, 1].astype(int), corners[:, 0].astype(int)] == 0
        fit = fit_tracks(follow(clean, gray, corners[behind]), clean.shape, 0)
        moved.append((fit.z, fit.t) if fit else (1 + 0j, 0j))
    return Similarities(np.array([z for z, _ in moved]), np.array([t for _, t in moved]))


def true_pairs(film: Film) -> Similarities:
    """next_from_this (N - 1,) of the rearmost sheet: the similarity nearest to its motion where it is seen."""
    sheet = film.sheets[0]
    flat = np.allclose(sheet.frame_from_sheet[:, 2, :2], 0)
    weights = np.ones((COUNT - 1, len(GRID))) if flat else background_seen(film)[:-1].astype(float)
    steps = sheet.frame_from_sheet[1:] @ np.linalg.inv(sheet.frame_from_sheet[:-1])
    points = np.stack([GRID.real, GRID.imag, np.ones(GRID.shape)])
    moved = steps @ points
    places = (moved[:, 0] + 1j * moved[:, 1]) / moved[:, 2]
    fitted = [fit_similarity(GRID, place, share) for place, share in zip(places, weights, strict=True)]
    return Similarities(np.array([z for z, _ in fitted]), np.array([t for _, t in fitted]))


def background_seen(film: Film) -> np.ndarray:
    """Whether the rearmost sheet is seen at the grid's places (N, G)."""
    x, y = GRID.real.astype(int), GRID.imag.astype(int)
    return np.array([sheet[y, x] == 0 for _, sheet in staged(film.sheets, SIZE)])


def off_by(found: Similarities, true: Similarities) -> np.ndarray:
    """Corner errors (P, 4) px."""
    corners = as_complex(SIZE.corners())
    return np.abs(found.apply(corners) - true.apply(corners))


def suggested(film: Film, found: Measurement) -> str:
    """How far the suggested subjects are things of the film: the median overlap of each with the nearest."""
    seen = [sheet for _, sheet in staged(film.sheets, SIZE, 0.0)]
    told = []
    for subject in find_subjects(found):
        shared = [
            max((share(one.polygon, seen[one.frame] == sheet) for sheet in range(1, len(film.sheets))), default=0.0)
            for one in subject.seen
        ]
        told.append(f"{np.median(shared):.2f}")
    return ", ".join(told) or "none"


def share(polygon: np.ndarray, mask: np.ndarray) -> float:
    """How far a polygon and a mask are the same part of the frame."""
    drawn = np.zeros(mask.shape, np.uint8)
    cv2.fillPoly(drawn, [as_points(polygon).round().astype(np.int32)], 1)
    return float(((drawn > 0) & mask).sum() / max(1, ((drawn > 0) | mask).sum()))


def main() -> None:
    """Print a line a film, and how often the measurement is wrongly sure."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--only", nargs="*")
    parser.add_argument("--set", choices=("built", "unseen"))
    asked = parser.parse_args()
    sure, wrongly = 0, 0
    for name, unseen, make in films(asked.folder):
        if asked.only and not any(part in name for part in asked.only):
            continue
        if asked.set and unseen != (asked.set == "unseen"):
            continue
        film = make()
        frames = list(frames_of(film))
        found, took = measured(frames)
        true = true_pairs(film)
        if film.quality is not None:
            shown = moved_by_encoder(film, frames)
            true = shown[1:] @ true @ shown[:-1].inverse()
        errors = off_by(found.pairs, true)
        worst = errors.max(1)
        confident = found.confidence >= 0.9
        sure, wrongly = sure + int(confident.sum()), wrongly + int((worst[confident] > 1).sum())
        print(
            f"{name:28s} over 1 px {int((worst > 1).sum()):3d} of {len(worst)}  RMS {np.sqrt((errors**2).mean()):.3f}"
            f"  worst {worst.max():5.2f}  confidence {confidence_of(found):.2f}  {took:4.1f} s"
            f"  suggested {suggested(film, found)}",
            flush=True,
        )
    print(f"of {sure} pairs told at 0.9 or more, {wrongly} are off by over 1 px")


if __name__ == "__main__":
    main()
