"""Films of cameras that see all around, whose turns are known."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from scipy.spatial.transform import Rotation
from truth import encoded, rms

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.sphere.tracker import SphereTracker
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.simulator.panorama import paint_panorama
from keen_horizon.simulator.sphere import CubeWorld, SphereFilm
from keen_horizon.simulator.town import build_town

SMALL = Size(1024, 512)
Walk = Callable[[int], Rotation]  # where something is on a frame, world_from_it


@dataclass(frozen=True)
class AllAround:
    """A picture of all around, from pole to pole."""

    picture: np.ndarray

    def seen(self, rays: np.ndarray) -> np.ndarray:
        """The colours (rows, columns, 3) along rays (rows, columns, 3)."""
        rows, columns = self.picture.shape[:2]
        places = Sphere(Size(columns, rows)).points(rays).astype(np.float32)
        return cv2.remap(self.picture, places[..., 0], places[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)


def harbour() -> AllAround:
    """The painted town with its horizon."""
    return AllAround(paint_panorama(build_town(), np.array([0, -5.2, 0.0]), width=3072).all_around())


def street(seed: int, grain: float = 15.0, width: int = 3072) -> AllAround:
    """Walls with windows around rough ground: edges that are upright or lie at any height, and no horizon. `grain` are
    the levels of each of three textures of walls: 15 is rubble, of which edges of windows are half drowned.
    """
    random = np.random.default_rng(seed)
    x, y = np.meshgrid(np.arange(width), np.arange(width // 2))
    rays = Sphere(Size(width, width // 2)).rays(np.stack([x, y], -1).astype(float))
    over_ground = rays[..., [0, 2]]
    rough = sum(
        cv2.resize(random.normal(0, 15, (512 // scale,) * 2), (512, 512), interpolation=cv2.INTER_CUBIC)
        for scale in (2, 8, 32)
    )

    def texture(across: np.ndarray, along: np.ndarray, fine: float) -> np.ndarray:
        return rough[(across * fine % 512).astype(int), (along * fine % 512).astype(int)]

    reach = 1.7 / np.maximum(rays[..., 1], 0.03)
    ground = over_ground * reach[..., None]
    picture = np.where(rays[..., 1] > 0.03, 110 + texture(ground[..., 0], ground[..., 1], 40), 210)
    corners = np.sort(random.uniform(0, 2 * np.pi, 9))
    corners = np.stack([np.sin(corners), np.cos(corners)], -1) * random.uniform(5, 20, (9, 1))
    for start, end in zip(corners, np.roll(corners, -1, 0), strict=True):
        wall, storeys, tone = end - start, random.uniform(2, 6), random.uniform(70, 180)
        across = over_ground[..., 0] * wall[1] - over_ground[..., 1] * wall[0]
        across = np.where(np.abs(across) < 1e-9, 1e-9, across)
        far = (start[0] * wall[1] - start[1] * wall[0]) / across
        share = (start[0] * over_ground[..., 1] - start[1] * over_ground[..., 0]) / across
        height = 1.7 - rays[..., 1] * far
        hit = (far > 0) & (share >= 0) & (share <= 1) & (height >= 0) & (height < 3 * storeys)
        place = share * np.hypot(*wall)
        window = (np.abs(place % 2.6 - 1.3) < 0.5) & (np.abs(height % 3 - 1.6) < 0.8)
        picture = np.where(hit, np.where(window, 0.4, 1.0) * tone + grain / 15 * texture(place, height, 40), picture)
    seen = cv2.GaussianBlur(np.clip(picture, 0, 255).astype(np.uint8), (0, 0), 0.8)
    return AllAround(np.repeat(seen[..., None], 3, -1))


def cube(seed: int = 5, side: int = 640) -> CubeWorld:
    """A world of noise at all scales, every face its own."""
    random = np.random.default_rng(seed)
    pictures = []
    for _ in range(6):
        total = np.zeros((side, side, 3), np.float32)
        for scale in (2, 4, 8, 16, 32):
            coarse = random.normal(0, 25, (side // scale, side // scale, 3)).astype(np.float32)
            total += cv2.resize(coarse, (side, side), interpolation=cv2.INTER_CUBIC)
        pictures.append(np.clip(total + 128, 0, 255).astype(np.uint8))
    return CubeWorld.of(pictures, side)


def rocker(seed: int = 1, degrees: float = 2.0, heading: float = 25.0) -> Callable[[np.ndarray], Rotation]:
    """Where a camera, world_from_camera, that rocks and slowly turns to the right stands at any frame's part."""
    random = np.random.default_rng(seed)
    tones = [[(rate, degrees * random.normal(), random.uniform(0, 6)) for rate in (0.5, 1.3, 4)] for _ in range(3)]

    def stands(frames: np.ndarray) -> Rotation:
        times = np.asarray(frames) / 30
        waves = [sum(size * np.sin(2 * np.pi * rate * times + phase) for rate, size, phase in tone) for tone in tones]
        waves[0] = waves[0] + heading * times
        return Rotation.from_euler("YXZ", np.stack(waves, -1), degrees=True)

    return stands


def rocking(count: int, seed: int = 1, degrees: float = 2.0, heading: float = 25.0) -> Rotation:
    """The same at frames (N,)."""
    return rocker(seed, degrees, heading)(np.arange(count))


@cache
def going_round(start_deg: float, step_deg: float) -> Walk:
    """The way of a thing that goes round to the right and keeps its distance; the same one for the same degrees."""
    return lambda number: Rotation.from_euler("YXZ", [start_deg + step_deg * number, 0, 0], degrees=True)


def gone_by(
    world: CubeWorld, other: CubeWorld, walk: Walk, *, radius_deg: float, growth: float, stood: Rotation
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pictures of a world in which something round, of another one's pictures, goes by where `walk` puts it and grows
    by a share a frame; and where it is seen (rows, columns).
    """
    columns, rows = np.meshgrid(np.arange(SMALL.width), np.arange(SMALL.height))
    rays = Sphere(SMALL).rays(np.stack([columns, rows], -1).astype(float))
    for number, camera in enumerate(stood):
        turned = camera.apply(rays.reshape(-1, 3))
        own = walk(number).inv().apply(turned)
        size = (1 + growth) ** number
        aside = np.hypot(own[:, 0], own[:, 1])
        angle = np.arctan2(aside, own[:, 2])
        shrunk = np.sin(angle / size) / np.maximum(aside, 1e-9)
        looked = np.stack([shrunk * own[:, 0], shrunk * own[:, 1], np.cos(angle / size)], -1).reshape(rays.shape)
        inside = (angle < np.radians(radius_deg) * size).reshape(rows.shape)
        seen = np.where(inside[..., None], other.seen(looked), world.seen(turned.reshape(rays.shape)))
        yield seen.astype(np.uint8), inside


def measured(pictures: Iterable[np.ndarray], size: Size = SMALL) -> Measurement:
    """The measurement of BGR pictures of a sphere."""
    tracker = SphereTracker.start(size)
    for number, picture in enumerate(pictures):
        tracker.add(cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY), number / 30)
    return tracker.finish(0)


def errors(measurement: Measurement, true: Rotation) -> tuple[float, float]:
    """Of pairs, and of absolute turns but for one turn of all: degrees RMS."""
    found = sphere_turns(measurement, Sphere(measurement.size))
    pairs = (found.pairs * (true[1:].inv() * true[:-1]).inv()).magnitude()
    same = (true * found.rotations.inv()).mean()
    absolute = ((same * found.rotations).inv() * true).magnitude()
    return float(np.degrees(rms(pairs))), float(np.degrees(rms(absolute)))


def film(ffmpeg: str, path: Path, rotations: Rotation, size: Size = SMALL) -> Path:
    """A film of the noisy cube, which says nothing of being a sphere."""
    pictures = SphereFilm(cube(), Sphere(size), rotations).pictures()
    return encoded(ffmpeg, path, pictures, 30, "-c:v", "libx264", "-crf", "16", "-pix_fmt", "yuv420p")


def passing(
    pictures: Iterable[np.ndarray], sphere: Sphere, rotations: Rotation, rays: np.ndarray
) -> Iterable[np.ndarray]:
    """Pictures of a sphere with a round textured thing, 12 degrees out from rays (N, 3) of the world."""
    reach = np.radians(12.0)
    texture = cube(seed=9, side=240).faces[0]
    x, y = np.meshgrid(np.arange(sphere.size.width), np.arange(sphere.size.height))
    seen = sphere.rays(np.stack([x, y], -1).astype(float))
    for picture, rotation, ray in zip(pictures, rotations, rays, strict=True):
        right = np.cross([0.0, 1.0, 0.0], ray)
        axes = np.stack([right / np.linalg.norm(right), np.cross(ray, right / np.linalg.norm(right)), ray])
        at = seen @ (axes @ rotation.as_matrix()).T
        inside = at[..., 2] > np.cos(reach)
        places = (at[inside][:, :2] / at[inside][:, 2:] / np.tan(reach) + 1) / 2 * (texture.shape[0] - 1)
        drawn = picture.copy()
        column, row = np.ascontiguousarray(places.T, np.float32)
        drawn[inside] = cv2.remap(texture, column[None], row[None], cv2.INTER_LINEAR)[0]
        yield drawn
