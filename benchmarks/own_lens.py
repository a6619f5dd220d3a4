"""The lens that a clip tells by itself, on made-up films whose lens is known: of five families, 60 to 150 degrees wide.

    .venv/bin/python benchmarks/own_lens.py PHOTOGRAPHS [FIRST [LAST]]

Films FIRST ... LAST, by number: hands that shake, pan, walk, stop and go, and people who pass; rolling shutters among
them, noise, every third film compressed. Most are filmed in rooms whose six walls are photographs from a folder, so
that what is near passes faster, every fourth in the harbour town. Errors are RMS over forty things that are straight in
the world and were not looked at, px at 1000 px wide.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from scipy.spatial.transform import Rotation, RotationSpline

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from glass import straight_things

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.own_lens import own_lens
from keen_horizon.core.finding.readout import find_readout
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.automatic import Edge, automatic_lens, picture_edges
from keen_horizon.core.lens.lens import NO_LENS, Lens, fisheye_of
from keen_horizon.core.lens.straightedges import judged
from keen_horizon.core.motion.measure import MotionTracker, measure_frames
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.simulator.demo import _world
from keen_horizon.simulator.panorama import Panorama

SIZE, FRAMES = Size(960, 540), 110
LOOKED_AT = (18, 36, 54, 72, 90)
WAYS = ("shake", "pan", "walk", "stop and go", "passers-by")
FAMILIES = ("division", "polynomial", "equidistant", "equisolid", "stereographic")
SIDE = 700  # px of a photograph on a wall


@dataclass(frozen=True)
class Room:
    """Six photographs, side by side, on the walls of a box with `half` sides, metres."""

    walls: np.ndarray
    half: np.ndarray

    @staticmethod
    def of(folder: Path, random: np.random.Generator) -> Room:
        read = [cv2.imread(str(file)) for file in sorted(folder.iterdir()) if file.suffix in (".jpg", ".png")]
        large = [photograph for photograph in read if photograph is not None and min(photograph.shape[:2]) >= 300]
        chosen = [large[i] for i in random.permutation(len(large))[:6]]
        walls = [cv2.resize(photograph, (SIDE, SIDE), interpolation=cv2.INTER_AREA) for photograph in chosen]
        half = np.array([random.uniform(8, 20), random.uniform(5, 9), random.uniform(15, 40)])
        return Room(np.concatenate(walls, 1), half)

    def seen(self, rays: np.ndarray, at: np.ndarray) -> np.ndarray:
        """The colours (rows, columns, 3) along rays (rows, columns, 3) from a place (3,)."""
        with np.errstate(divide="ignore"):
            away = (np.sign(rays) * self.half - at) / rays
        axis = np.argmin(away, -1)
        nearest = np.take_along_axis(away, axis[..., None], -1)
        place = (at + nearest * rays) / self.half
        ahead = np.take_along_axis(rays, axis[..., None], -1)[..., 0] > 0
        across = np.where(axis == 0, place[..., 2], place[..., 0])
        down = np.where(axis == 1, place[..., 2], place[..., 1])
        x = (across + 1) / 2 * (SIDE - 2) + 0.5 + (2 * axis + ahead) * SIDE
        y = (down + 1) / 2 * (SIDE - 2) + 0.5
        return cv2.remap(self.walls, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR)


@dataclass(frozen=True)
class Town:
    """The harbour, so far away that nothing passes."""

    world: Panorama

    def seen(self, rays: np.ndarray, at: np.ndarray) -> np.ndarray:
        """The colours (rows, columns, 3) along rays (rows, columns, 3)."""
        x, y = (part.astype(np.float32) for part in self.world.pixels(rays))
        return cv2.remap(self.world.picture, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)


@dataclass(frozen=True)
class Film:
    """A film by its number: its lens with its focal length, half-diagonals, how the camera moves, and its readout."""

    number: int
    lens: Lens
    focal: float
    turns: RotationSpline
    places: np.ndarray
    readout: float

    @staticmethod
    def numbered(number: int) -> Film:
        random = np.random.default_rng(number)
        lens, focal = _lens(random)
        way, count = WAYS[number % 5], 4 * (FRAMES + 4)
        strength, times = random.uniform(0.4, 1.5), np.arange(count) / 4 - 2
        slow = np.stack([_smooth(random, count, strength, 12) for _ in range(3)], -1)
        quick = np.stack([_smooth(random, count, strength / 4, 4) for _ in range(3)], -1)
        angles = (slow + quick) * (1.6 if way == "shake" else 1.0)
        if way in ("pan", "passers-by"):
            angles[:, 1] += random.uniform(8, 25) * np.clip((times - 10) / 80, 0, 1) * random.choice([-1, 1])
        if way in ("walk", "stop and go"):
            angles[:, 1] += _smooth(random, count, 4.0, 80)
        pitch, yaw, roll = angles.T
        turned = Rotation.from_euler("YXZ", np.stack([yaw, pitch, roll], -1), degrees=True)
        walks = way in ("walk", "stop and go", "passers-by")
        speed = 0.05 * ((np.sin(times / 14) > 0) if way == "stop and go" else np.ones(count)) * walks
        gone, heading = np.cumsum(speed) / 4, random.choice([0.0, 1.2])
        sway = np.stack([_smooth(random, count, 0.015, 14) for _ in range(3)], -1)
        places = gone[:, None] * (np.sin(heading), 0, np.cos(heading)) + sway
        readout = float(random.choice([0, random.uniform(0.3, 0.9) * random.choice([-1, 1])]))
        return Film(number, lens, focal, RotationSpline(times, turned), places, readout)

    def pictures(self, world: Room | Town) -> Iterator[np.ndarray]:
        """Luma (rows, columns), frame by frame."""
        random = np.random.default_rng(1000 + self.number)
        x, y = np.meshgrid(np.arange(SIZE.width), np.arange(SIZE.height))
        offsets = (x + 1j * y - SIZE.centre) / SIZE.half_diagonal - self.lens.centre
        depth = self.lens.kind.depth(np.abs(offsets), np.array(self.lens.k)) * self.focal
        rays = np.stack([offsets.real, offsets.imag, depth], -1)
        rays /= np.linalg.norm(rays, axis=-1, keepdims=True)
        rows = np.arange(SIZE.height) / SIZE.height - 0.5
        people = [(random.uniform(0, 900), random.uniform(2, 6), int(random.uniform(70, 160))) for _ in range(2)]
        coats = [random.integers(0, 255, (40, 16, 3)).astype(np.uint8) for _ in people]
        for frame in range(FRAMES):
            turned = self.turns(frame + self.readout * rows).as_matrix()
            at = self.places[4 * (frame + 2)]
            picture = world.seen(np.einsum("rij,rcj->rci", turned, rays), at)
            for (start, speed, wide), coat in zip(people, coats, strict=True):
                if WAYS[self.number % 5] == "passers-by":
                    _passed(picture, int((start + speed * frame) % 1100) - 100, wide, coat)
            luma = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY)
            noisy = np.clip(luma + random.normal(0, 2, luma.shape), 0, 255).astype(np.uint8)
            if self.number % 3 == 0:
                packed = cv2.imencode(".jpg", noisy, [cv2.IMWRITE_JPEG_QUALITY, 45])[1]
                noisy = cv2.imdecode(packed, cv2.IMREAD_GRAYSCALE)
            yield noisy


def _lens(random: np.random.Generator) -> tuple[Lens, float]:
    """A lens, its centre a little aside, and its focal length."""
    family = FAMILIES[random.integers(5)]
    centre = complex(*random.normal(0, 0.012, 2))
    diagonal = random.uniform(60, 150)
    if family not in ("division", "polynomial"):
        k = fisheye_of(family, diagonal).k
        return Lens(family, k, centre), float(k[0] ** -0.5)
    steep = np.tan(np.radians(min(diagonal, 125)) / 2)
    if family == "division":
        lens = Lens(family, (float(random.uniform(-0.35, 0.03)),), centre)
    else:
        lens = Lens(family, (float(random.uniform(-0.1, 0.06)), float(random.uniform(0, 0.01))), centre)
    return lens, float(lens.straightened_radius(np.array(1.0)) / steep)


def _smooth(random: np.random.Generator, count: int, spread: float, width: float) -> np.ndarray:
    """Smooth noise (count,) of so much spread, as wide as so many samples."""
    reach = int(4 * width)
    kernel = np.exp(-((np.arange(-reach, reach + 1) / width) ** 2) / 2)
    kernel /= np.sqrt((kernel**2).sum())
    return np.convolve(random.normal(0, spread, count + 2 * reach), kernel, "valid")


def _passed(picture: np.ndarray, left: int, wide: int, coat: np.ndarray) -> None:
    """Somebody who passes before the camera, drawn into a picture."""
    tall = int(2.6 * wide)
    start, stop = max(left, 0), min(left + wide, SIZE.width)
    if stop > start:
        person = cv2.resize(coat, (wide, tall), interpolation=cv2.INTER_CUBIC)[-SIZE.height :]
        picture[-len(person) :, start:stop] = person[:, start - left : stop - left]


def measured(film: Film, world: Room | Town) -> tuple[Measurement, list[Edge], float]:
    """A film's motion with its readout, the edges of some of its frames, and the seconds that measuring took."""
    edges: list[Edge] = []
    pictures = list(film.pictures(world))
    for frame in LOOKED_AT:
        edges += picture_edges(pictures[frame], frame, SIZE)
    began = time.perf_counter()
    tracker = MotionTracker.start(SIZE)
    looks = ((luma, tracker.small(luma), frame / 25) for frame, luma in enumerate(pictures))
    measure_frames(tracker, looks, FRAMES, lambda done, total: None, lambda: False, None)
    found = tracker.finish(0)
    found = replace(found, readout=find_readout(found))
    return found, edges, time.perf_counter() - began


def error(found: Lens, true: Lens) -> float:
    """RMS over straight things, px at 1000 px wide."""
    lines = straight_things(true, 40, np.random.default_rng(1), 9, size=SIZE)
    left = np.array(judged(found, lines, SIZE).residuals)
    return float(np.sqrt((left**2).mean()) * 1000 / SIZE.width)


def main(folder: Path, first: int, last: int) -> None:
    """Film, measure, and look for the lens."""
    town = Town(_world((0, -5.2, 0)).smaller(2))
    lines, focals, worse, refused = [], [], 0, 0
    for number in range(first, last + 1):
        film = Film.numbered(number)
        world = town if number % 4 == 3 else Room.of(folder, np.random.default_rng(500 + number))
        measurement, edges, seconds = measured(film, world)
        what = f"{number:3d} {WAYS[number % 5]:11s} {film.lens.family:13s}"
        shot = error(NO_LENS, film.lens)
        try:
            alone = f"{error(automatic_lens(edges, SIZE).lens, film.lens):.2f}"
        except LensError:
            alone = "refused"
        began = time.perf_counter()
        try:
            found = own_lens(edges, SIZE, measurement)
        except LensError as refusal:
            refused += 1
            print(f"{what} as shot {shot:5.2f}, edges alone {alone}: refused: {str(refusal)[:60]}", flush=True)
            continue
        took = time.perf_counter() - began
        lines.append(error(found.lens, film.lens))
        focal = found.lens.k[0] ** -0.5 if found.lens.kind.angular else found.focal
        told = "not told" if focal is None else f"{100 * (focal / film.focal - 1):+.1f} %"
        if focal is not None:
            focals.append(abs(focal / film.focal - 1))
        worse += lines[-1] > shot + 0.05
        print(
            f"{what} as shot {shot:5.2f}, edges alone {alone}: {lines[-1]:.2f} px by {found.by}, focal length {told}; "
            f"{took:.1f} s, {took / seconds:.1f} x measuring",
            flush=True,
        )
    print(f"{len(lines)} told, {refused} refused; {worse} made worse")
    print(f"lines: {np.median(lines):.2f} px in the middle, {max(lines):.2f} at worst")
    print(
        f"focal length: told {len(focals)} times, within 1 % {np.mean(np.array(focals) < 0.01):.0%}, "
        f"{100 * np.median(focals):.1f} % in the middle, {100 * max(focals):.1f} % at worst"
    )


if __name__ == "__main__":
    span = [int(word) for word in sys.argv[2:4]]
    main(Path(sys.argv[1]), *(span if len(span) == 2 else [*span, *span] if span else (100, 139)))
