"""Measurements of made-up cameras that turn, walk and read their rows in turn, and whose lens is known."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from glass import seen_at
from scipy.spatial.transform import Rotation, RotationSpline

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.lens.lens import Lens
from keen_horizon.core.motion.measurement import Evidence, Matches, Measurement

SIZE = Size(960, 540)
NEW_EVERY, LIVES = 6, 30  # frames after which further points are followed, and for how long
KEY_EVERY = 12


@dataclass(frozen=True)
class Camera:
    """A lens with its focal length, half-diagonals, and how the camera turns and walks.

    `angles` (K, 3) are degrees of pitch, yaw and roll, four a frame, `walk` metres a frame straight ahead.
    """

    lens: Lens
    focal: float
    angles: np.ndarray
    walk: float = 0.0
    readout: float = 0.0

    @cached_property
    def turns(self) -> RotationSpline:
        """World from camera over the frames."""
        pitch, yaw, roll = self.angles.T
        turned = Rotation.from_euler("YXZ", np.stack([yaw, pitch, roll], -1), degrees=True)
        return RotationSpline(np.arange(len(turned)) / 4 - 2, turned)

    def seen(self, things: np.ndarray, frame: int | np.ndarray) -> np.ndarray:
        """Where things (N, 3), metres, are seen on a frame, or each on its own (N,), (N, 2)."""
        turns, at = self.turns, np.array([0.0, 0.0, self.walk])
        times = np.broadcast_to(np.asarray(frame, float), len(things))
        for _ in range(3 if self.readout else 1):
            rays = turns(times).inv().apply(things - times[:, None] * at)
            places = seen_at(self.lens, rays * (1, 1, 1 / self.scale), SIZE)
            places[rays[:, 2] < 0.05 * np.linalg.norm(rays, axis=1)] = np.nan
            times = frame + self.readout * np.nan_to_num((places[:, 1] + 0.5) / SIZE.height - 0.5)
        return places

    @property
    def scale(self) -> float:
        """What the rays' depth is scaled by; a fisheye tells its focal length itself."""
        return 1.0 if self.lens.kind.angular else self.focal


def swaying(frames: int, degrees: float, seed: int, pan: float = 0.0, *, within: float = 14.0) -> np.ndarray:
    """Angles (K, 3), degrees, four a frame, of a hand that sways, and pans by so much in all; `within` a few samples it
    trembles.
    """
    random = np.random.default_rng(seed)
    count, reach = 4 * (frames + 4), 48
    kernel = np.exp(-((np.arange(-reach, reach + 1) / within) ** 2) / 2)
    kernel /= np.sqrt((kernel**2).sum())
    strokes = [random.normal(0, degrees, count + 2 * reach) for _ in range(3)]
    angles = np.stack([np.convolve(stroke, kernel, "valid") for stroke in strokes], -1)
    angles[:, 1] += pan * np.linspace(0, 1, count)
    return angles


def canyon(random: np.random.Generator, count: int) -> np.ndarray:
    """Things (N, 3) on the walls, the ground and the ends of a street 12 m wide and 80 m long."""
    rays = anywhere(random, count, 1.0, 1.0)
    away = np.min(np.array([6.0, 5.0, 40.0]) / np.maximum(np.abs(rays), 1e-9), 1)
    return rays * away[:, None]


def anywhere(random: np.random.Generator, count: int, near: float, far: float) -> np.ndarray:
    """Things (N, 3) ahead of a camera, and well to its sides, at distances between two."""
    away = random.uniform(near, far, count)
    across, down = random.uniform(-1.7, 1.7, count), random.uniform(-1.0, 1.0, count)
    rays = np.stack([np.sin(across) * np.cos(down), np.sin(down), np.cos(across) * np.cos(down)], -1)
    return rays * away[:, None]


def followed(
    camera: Camera,
    frames: int,
    things: Callable[[np.random.Generator, int], np.ndarray],
    *,
    noise: float = 0.1,
    passing: float = 0.0,
    seed: int = 4,
) -> Measurement:
    """What a measurement would keep of a film: points followed to `noise` px, a share `passing` of them on somebody who
    walks through the picture.
    """
    random = np.random.default_rng(seed)
    tracks: dict[int, list[tuple[int, int, np.ndarray]]] = {frame: [] for frame in range(frames)}
    number = 0
    for born in range(0, frames - 1, NEW_EVERY):
        found = things(random, 400)
        lives = range(born, min(frames, born + LIVES))
        at_first = _inside(_seen_over(camera, found, lives[:2]))
        chosen = np.flatnonzero(at_first.all(0))[:55]
        places = _seen_over(camera, found[chosen], lives)
        inside = _inside(places)
        walking = random.random(len(chosen)) < passing
        for point, (thing, walks) in enumerate(zip(chosen, walking, strict=True)):
            number += 1
            for i in range(len(places)):
                if not inside[i, point]:
                    break
                off = random.normal(0, noise, 2) + (walks * i * np.array([3.0, 0.4]))
                tracks[born + i].append((number, int(thing), places[i, point] + off))
    whole = [{name: place for name, _, place in tracks[frame]} for frame in range(frames)]
    pairs = [_both(whole, frame, frame + 1) for frame in range(frames - 1)]
    apart = [(a, a + gap) for a in range(0, frames - KEY_EVERY, KEY_EVERY // 2) for gap in (KEY_EVERY, 2 * KEY_EVERY)]
    keys = [(both, _both(whole, *both)) for both in apart if both[1] < frames]
    keys = [(both, found) for both, found in keys if len(found[0]) >= 12]
    evidence = Evidence(
        starts=np.r_[0, np.cumsum([len(found[0]) for found in pairs])].astype(np.int64),
        points=np.concatenate([found[1] for found in pairs]).astype(np.float32),
        believed=np.ones(sum(len(found[0]) for found in pairs), np.bool_),
        moved=np.concatenate([found[2] for found in pairs]).astype(np.float32),
        matches=_matches(keys),
        identity=np.concatenate([found[0] for found in pairs]).astype(np.int32),
        weak=np.zeros(sum(len(found[0]) for found in pairs), np.bool_),
    )
    still = Measurement.still(SIZE, 0, np.arange(frames) / 25)
    ahead = camera.seen(np.array([[0.0, 0.0, 1e4]]), 0)[0]
    middle = _seen_over(camera, np.array([[0.0, 0.0, 1e4]]), range(frames))[:, 0] - ahead
    moved = np.nan_to_num(middle[:, 0] + 1j * middle[:, 1])
    return replace(still, evidence=evidence, poses=Similarities(np.ones(frames, np.complex128), -moved))


def _seen_over(camera: Camera, things: np.ndarray, frames: range) -> np.ndarray:
    """Where things (N, 3) are seen on frames, (F, N, 2)."""
    each = np.repeat(np.arange(frames.start, frames.stop), len(things))
    return camera.seen(np.tile(things, (len(frames), 1)), each).reshape(len(frames), len(things), 2)


def _inside(places: np.ndarray) -> np.ndarray:
    """Which of places (..., 2) can be followed: not those at the frame's very edge, nor out of sight."""
    return ((places > 4) & (places < (SIZE.width - 5, SIZE.height - 5))).all(-1)


Both = tuple[np.ndarray, np.ndarray, np.ndarray]


def _both(whole: list[dict[int, np.ndarray]], first: int, later: int) -> Both:
    """The points that are followed from one frame to a later one: their names, and both places."""
    names = np.array(sorted(whole[first].keys() & whole[later].keys()), np.intp)
    ends = [np.array([whole[frame][name] for name in names]).reshape(-1, 2) for frame in (first, later)]
    return names, ends[0], ends[1]


def _matches(keys: list[tuple[tuple[int, int], Both]]) -> Matches:
    if not keys:
        return Matches.none()
    return Matches(
        frames=np.array([both for both, _ in keys], np.int64),
        starts=np.r_[0, np.cumsum([len(found[0]) for _, found in keys])].astype(np.int64),
        points=np.concatenate([found[1] for _, found in keys]).astype(np.float32),
        moved=np.concatenate([found[2] for _, found in keys]).astype(np.float32),
        identity=np.concatenate([found[0] for _, found in keys]).astype(np.int32),
        weak=np.zeros(sum(len(found[0]) for _, found in keys), np.bool_),
    )
