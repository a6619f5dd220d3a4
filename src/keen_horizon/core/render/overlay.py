"""Straight-rendered graphics bent back and laid over a clip's own pixels.

The graphics were made on the straight plate. Each sample of the source looks up its place on the plate, at twice
the source's resolution, since bending shrinks the plate's borders. Where the graphics are clear the source's
samples stay as they are, bit by bit; elsewhere they are laid over in the source's own matrix, range and depth.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError
from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.lens.plate import Plate, Plates
from keen_horizon.core.mapping.frame_map import Maps, PlaneGrid
from keen_horizon.core.mapping.staged import StagedMap
from keen_horizon.core.media.chroma import chroma_place
from keen_horizon.core.media.colour import luma_weights
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.layers import Picture
from keen_horizon.core.media.stored import Plane

Floats = NDArray[np.float64]
Layer = NDArray[np.float32]

FINER = 2
ASPECT_TOLERANCE = 0.01


@dataclass(frozen=True)
class BackStage:
    """From the source to the plate of a frame: the way that graphics are looked up."""

    plate: Plate

    def points(self, frame: int, points: Floats) -> Floats:
        """Source points (N, 2) on the plate."""
        return self.plate.from_source(points)

    def matrix(self, frame: int) -> None:
        """A lens is no plane transform."""
        return None


class Layover:
    """Lays graphics over frames that are stored at size `coded`."""

    def __init__(self, plates: Plates, coded: Size) -> None:
        self._plates, self._coded = plates, coded
        self._plate = plates.at(0)
        self._maps: dict[Size, Maps] = {}
        self._last: tuple[Picture, Layer] | None = None

    def lay_over(self, frame: Frame, picture: Picture, name: str) -> tuple[Plane, ...]:
        """The frame's planes with a picture of the graphics `name` over them. Raises MediaError.

        The picture is (rows, columns, 3 or 4), R, G, B and A of 8 or 16 bits; without A it covers all.
        """
        plate = self._plates.at(frame.number)
        if plate != self._plate:  # its lens is another one than a frame ago
            self._plate, self._maps, self._last = plate, {}, None
        if self._last is None or self._last[0] is not picture:
            self._last = picture, self._bent(_premultiplied(picture), name)
        bent = self._last[1]
        values = _coded_values(bent, frame)
        planes = []
        for plane, value in zip(frame.planes, values, strict=True):
            own, cover = (_as_stored(part, plane, frame.tags.site) for part in (value, bent[..., 3]))
            mixed = np.rint(plane * (1 - cover) + own)
            top = (1 << frame.bit_depth) - 1
            planes.append(np.where(cover > 0, np.clip(mixed, 0, top), plane).astype(plane.dtype))
        return tuple(planes)

    def _bent(self, layer: Layer, name: str) -> Layer:
        size = Size(layer.shape[1], layer.shape[0])
        if size not in self._maps:
            self._maps[size] = self._map(size, name)
        fine = cv2.remap(layer, *self._maps[size], interpolation=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
        whole = (self._coded.width, self._coded.height)
        return np.asarray(cv2.resize(fine, whole, interpolation=cv2.INTER_AREA))

    def _map(self, size: Size, name: str) -> Maps:
        plate = self._plate.size
        if abs(size.width / size.height / (plate.width / plate.height) - 1) > ASPECT_TOLERANCE:
            raise MediaError(
                f"{name}: its pictures are {size.width}×{size.height}, the straight plate is "
                f"{plate.width}×{plate.height}. Render the graphics in the plate's shape."
            )
        fine = Size(self._coded.width * FINER, self._coded.height * FINER)
        display = self._plate.stage.size
        target = PlaneGrid((fine.height, fine.width), resized(display, fine))
        source = PlaneGrid((size.height, size.width), resized(plate, size))
        return StagedMap(display, (BackStage(self._plate),)).plane_maps(0, target, source)


def _as_stored(part: Layer, plane: Plane, site: int) -> Layer:
    """A layer of luma's size averaged to a plane's samples, where these lie."""
    across, down = (round(whole / own) for whole, own in zip(part.shape[::-1], plane.shape[::-1], strict=True))
    x, y = chroma_place(site, across, down)
    offset = x - (across - 1) / 2, y - (down - 1) / 2
    if offset != (0, 0):
        moved = np.array([[1, 0, offset[0]], [0, 1, offset[1]]])
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        size = (part.shape[1], part.shape[0])
        part = np.asarray(cv2.warpAffine(part, moved, size, flags=flags, borderMode=cv2.BORDER_REPLICATE))
    return np.asarray(cv2.resize(part, (plane.shape[1], plane.shape[0]), interpolation=cv2.INTER_AREA))


def _premultiplied(picture: Picture) -> Layer:
    values = picture.astype(np.float32) / np.iinfo(picture.dtype).max
    if values.shape[2] == 3:
        return np.dstack([values, np.ones(values.shape[:2], np.float32)])
    return np.asarray(np.dstack([values[..., :3] * values[..., 3:], values[..., 3]]), np.float32)


def _coded_values(layer: Layer, frame: Frame) -> tuple[Layer, Layer, Layer]:
    """Y, U, V (ITU-T H.273, 8.3) of a layer, each times how much it covers."""
    kr, kb = luma_weights(frame.tags)
    red, green, blue, cover = np.moveaxis(layer, 2, 0)
    y = kr * red + (1 - kr - kb) * green + kb * blue
    u, v = (blue - y) / (2 * (1 - kb)), (red - y) / (2 * (1 - kr))
    unit = np.float32(1 << (frame.bit_depth - 8))
    if frame.tags.range == 2:
        top = np.float32((1 << frame.bit_depth) - 1)
        return y * top, u * top + 128 * unit * cover, v * top + 128 * unit * cover
    return (219 * y + 16 * cover) * unit, (224 * u + 128 * cover) * unit, (224 * v + 128 * cover) * unit
