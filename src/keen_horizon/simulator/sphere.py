"""Cameras that see all around: in the middle of a world on a cube's faces, and on the mast of a rocking boat."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.sphere_maps import sphere_maps
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.spherical_tags import tag_sphere
from keen_horizon.core.motion.sphere.faces import AXES
from keen_horizon.simulator.film import add_sound, write_pictures
from keen_horizon.simulator.panorama import Panorama

Picture = NDArray[np.uint8]
Floats = NDArray[np.float64]

ROWS = 16  # that are looked up at a time, so that they stay in a processor's cache


@dataclass(frozen=True)
class CubeWorld:
    """Six square pictures (6, side, side, 3): ahead, right, behind, left, up, down; x right, y down, z ahead."""

    faces: Picture

    @staticmethod
    def of(pictures: list[Picture], side: int) -> CubeWorld:
        """The pictures' middles, as six faces of so many px; few pictures come again."""
        squares = []
        for face in range(6):
            picture = pictures[face % len(pictures)]
            least = min(picture.shape[:2])
            top, left = ((length - least) // 2 for length in picture.shape[:2])
            square = picture[top : top + least, left : left + least]
            kernel = cv2.INTER_AREA if least > side else cv2.INTER_CUBIC
            squares.append(cv2.resize(square, (side, side), interpolation=kernel))
        return CubeWorld(np.stack(squares))

    @cached_property
    def _strip(self) -> Picture:
        """The faces below each other, each with its border samples once more around it."""
        framed = [cv2.copyMakeBorder(face, 1, 1, 1, 1, cv2.BORDER_REPLICATE) for face in self.faces]
        return np.concatenate(framed)

    def seen(self, rays: Floats) -> Picture:
        """The world's colours (rows, columns, 3) along rays (rows, columns, 3)."""
        across = np.empty(rays.shape[:2], np.float32)
        down = np.empty_like(across)
        for row in range(0, len(rays), ROWS):
            part = slice(row, row + ROWS)
            across[part], down[part] = self._places(rays[part])
        return np.asarray(cv2.remap(self._strip, across, down, cv2.INTER_LINEAR), np.uint8)

    def _places(self, rays: Floats) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Where in the strip rays (rows, columns, 3) meet their nearest face, px."""
        side = self.faces.shape[1]
        flat = rays.reshape(-1, 3).astype(np.float32)  # of a few hundred px a face, a ten-thousandth of one
        on_faces = (flat @ AXES.reshape(-1, 3).T.astype(np.float32)).reshape(-1, len(AXES), 3)
        face = on_faces[..., 2].argmax(1)
        x, y, ahead = on_faces[np.arange(len(flat)), face].T
        across, down = ((part / ahead + 1) * np.float32(side / 2) + np.float32(0.5) for part in (x, y))
        down += (face * (side + 2)).astype(np.float32)
        return across.reshape(rays.shape[:2]), down.reshape(rays.shape[:2])


class World(Protocol):
    """What is all around a camera that only turns."""

    def seen(self, rays: Floats) -> Picture:
        """The colours (rows, columns, 3) along rays (rows, columns, 3)."""


@dataclass(frozen=True)
class SphereFilm:
    """What a camera in the middle of a world sees that stands at `rotations` (N,), world_from_camera; where `stands`
    tells where it is at any frame's part, its rows are read over `readout` frames.
    """

    world: World
    sphere: Sphere
    rotations: Rotation
    stands: Callable[[Floats], Rotation] | None = None
    readout: float = 0.0

    def pictures(self, carried: float = 0.0) -> Iterator[Picture]:
        """The pictures (rows, columns, 3); `carried` is the share of each, from below, that turns with the camera."""
        size = self.sphere.size
        x, y = np.meshgrid(np.arange(size.width), np.arange(size.height))
        rays = self.sphere.rays(np.stack([x, y], -1).astype(np.float64))
        below = round(size.height * (1 - carried))
        standing = self.world.seen(rays[below:]) if carried else None
        share = ((np.arange(size.height) + 0.5) / size.height - 0.5) * self.readout
        for frame, matrix in enumerate(self.rotations.as_matrix()):
            turned = rays @ matrix.T
            if self.stands is not None:
                turned = rays @ self.stands(frame + share).as_matrix().transpose(0, 2, 1)  # each row by its own
            picture = self.world.seen(turned)
            if standing is not None:
                picture[below:] = standing
            yield picture


PLANK_M = 0.22  # wide, seen from a mast of MAST_M
MAST_M = 4.0


@dataclass(frozen=True)
class SphereShot:
    """A clip all around: the painted world, the factor it is averaged down by, the sphere's picture, and where the
    camera stands, world_from_camera.
    """

    name: str
    size: Size
    rate: int
    world: Panorama
    shrunk: int
    rotations: Rotation
    seed: int

    def truth(self) -> dict[str, Any]:
        """The truth that goes beside the file."""
        rows = [
            {"frame": number, "time": number / self.rate, "world_from_camera": place.tolist()}
            for number, place in enumerate(self.rotations.as_quat())
        ]
        size = {"width": self.size.width, "height": self.size.height}
        return {"clip": self.name, **size, "rate": self.rate, "camera": "sphere", "frames": rows}


def take_around(shot: SphereShot) -> Iterator[Picture]:
    """The shot's BGR pictures, with the boat below that the camera stands on."""
    sphere, world = Sphere(shot.size), shot.world.all_around(shot.shrunk)
    rows, columns = world.shape[:2]
    around = Sphere(Size(columns, rows))
    boat, shown = _boat(sphere)
    for matrix in shot.rotations.as_matrix():
        across, down = sphere_maps(around, _turned(sphere, matrix), shot.size.height, shot.size.width)
        picture = cv2.remap(world, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)
        yield np.where(shown[..., None], boat, picture)


def _turned(sphere: Sphere, matrix: Floats) -> Callable[[Floats], Floats]:
    return lambda points: sphere.rays(points) @ matrix.T


def _boat(sphere: Sphere) -> tuple[Picture, NDArray[np.bool_]]:
    """What the camera carries along: a deck of planks, pointed ahead, and the foot of the mast; and where it is."""
    x, y = np.meshgrid(np.arange(sphere.size.width), np.arange(sphere.size.height))
    rays = sphere.rays(np.stack([x, y], -1).astype(np.float64))
    below = np.maximum(rays[..., 1], 1e-3)
    across, ahead = rays[..., 0] / below * MAST_M, rays[..., 2] / below * MAST_M
    beam = 1.5 * np.sqrt(np.clip(1 - (ahead / 5.5) ** 2, 0, 1))
    on_deck = (rays[..., 1] > 0) & (np.abs(across) < beam)
    plank = np.floor(across / PLANK_M).astype(int)
    shade = 1 - 0.12 * (plank % 3) - 0.35 * (np.abs(across / PLANK_M - plank - 0.5) > 0.46)
    joint = np.abs(np.mod(ahead + 0.7 * (plank % 4), 2.4) - 1.2) > 1.18
    deck = np.array([96, 140, 178]) * (shade * (1 - 0.35 * joint))[..., None]
    rail = np.abs(np.abs(across) - beam) < 0.07
    deck[rail] = (226, 230, 232)
    deck[np.hypot(across, ahead) < 0.16] = (60, 62, 66)
    return deck.astype(np.uint8), on_deck


def write_around(shot: SphereShot, folder: Path, quality: int = 19) -> Path:
    """Write the clip, marked as a sphere, and its truth; return the clip's path."""
    folder.mkdir(parents=True, exist_ok=True)
    clip, silent = folder / f"{shot.name}.mp4", folder / f".{shot.name}-silent.mp4"
    write_pictures(take_around(shot), shot.size, shot.rate, silent, quality)
    add_sound(silent, clip, len(shot.rotations) / shot.rate, shot.seed, front=False)
    tag_sphere(clip, "mp4")
    silent.unlink()
    (folder / f"{shot.name}.truth.json").write_text(json.dumps(shot.truth()))
    return clip
