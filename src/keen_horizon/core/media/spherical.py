"""What a file says of its pictures being spheres: the open Spherical Video metadata (V1's XML, V2's boxes), and
Matroska's projection, as FFmpeg reads them.
"""

from __future__ import annotations

import struct
from typing import Any, Literal

from av.sidedata.sidedata import Type

from keen_horizon.core.errors import MediaError
from keen_horizon.core.geometry.picture import Size

Told = Literal["sphere", "half sphere", "stereo", "other"]
Camera = Literal["frame", "sphere"]
_OFF_SHAPE = 0.02  # how far from 2 : 1, or 1 : 1 of a half, a sphere's picture may be

# FFmpeg's libavutil/spherical.h: the projection, yaw, pitch and roll, then how much of the sphere is left out at the
# left, top, right and bottom, of 2^32.
_MAPPING = struct.Struct("=i3i4I")
_WHOLE, _PARTS, _HALF = 0, 2, 3
_QUARTER = 1 << 30
_NEAR = 1 << 20  # of 2^32: how exactly files tell a quarter


def spherical_told(first: Any) -> Told | None:
    """What the file of a first decoded picture says; None where it says nothing.

    "other" are projections that are not equirectangular, or parts that are no half.
    """
    mapping = stereo = None
    for data in first.side_data:
        if data.type == Type.SPHERICAL:
            mapping = bytes(data)
        elif data.type == Type.STEREO3D:
            stereo = int.from_bytes(bytes(data)[:4], "little")
    if mapping is None or len(mapping) < _MAPPING.size:
        return None
    projection, _, _, _, left, top, right, bottom = _MAPPING.unpack_from(mapping)
    if stereo:
        return "stereo"
    if projection == _HALF or (projection == _PARTS and _is_half(left, top, right, bottom)):
        return "half sphere"
    return "sphere" if projection == _WHOLE else "other"


def _is_half(left: int, top: int, right: int, bottom: int) -> bool:
    sides = abs(left - _QUARTER) <= _NEAR and abs(right - _QUARTER) <= _NEAR
    return sides and max(top, bottom) <= _NEAR


def has_shape_of_sphere(size: Size) -> bool:
    """Whether a picture is twice as wide as high."""
    return abs(size.width / size.height / 2 - 1) <= _OFF_SHAPE


def camera_of(name: str, asked: Literal["as found", "frame", "sphere"], told: Told | None, size: Size) -> Camera:
    """What took pictures of an upright size: what was asked for, else what their file says.

    Raises MediaError, which says what to do, for spheres that cannot be worked on; asked for as frames they can.
    """
    if asked == "frame":
        return "frame"
    if told == "stereo":
        raise MediaError(
            f"{name}: it holds a sphere for each eye, which cannot be worked on. Export one eye alone, all around."
        )
    if asked == "as found" and told not in ("sphere", "half sphere"):
        return "frame"
    half = abs(size.width / size.height - 1) <= _OFF_SHAPE
    if not half and not has_shape_of_sphere(size):
        raise MediaError(
            f"{name}: its picture is {size.width}×{size.height} pixels. A sphere is twice as wide as high, and half a "
            "sphere as wide as high. Export it equirectangular, or have it read as a frame."
        )
    return "sphere"
