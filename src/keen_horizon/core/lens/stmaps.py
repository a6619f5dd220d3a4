"""ST maps: pictures whose every pixel says where it comes from.

Red is s, from 0 at the left edge of the other picture to 1 at its right edge; green is t, from 0 at its bottom
edge to 1 at its top; both at the pixel's middle. Blue is 1 where the other picture has something and 0 elsewhere.
`straighten` maps have the plate's size and point into the source; `bend` maps have the source's and point into
the plate. EXR keeps 32-bit floats, also beyond 0 and 1; TIFF 16 bits, a step of 1/65535 of the picture's side.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.plate import Plate

Floats = NDArray[np.float64]
Map = NDArray[np.float32]

ROWS = 256  # at a time, so that memory does not follow the plate's size
FURTHEST = 100.0


def straighten_map(plate: Plate) -> Map:
    """(rows, columns, 3) of the plate's size, pointing into the source."""
    return _filled(plate.size, plate.stage.size, plate.to_source)


def bend_map(plate: Plate) -> Map:
    """(rows, columns, 3) of the source's size, pointing into the plate."""
    return _filled(plate.stage.size, plate.size, plate.from_source)


def write_exr(values: Map, path: Path) -> None:
    """As 32-bit float EXR, losslessly packed."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    channels = {name: np.ascontiguousarray(values[..., i]) for i, name in enumerate("RGB")}
    OpenEXR.File(header, channels).write(str(path))


def write_tiff(values: Map, path: Path) -> None:
    """As 16-bit TIFF; black where nothing is."""
    inside = values[..., 2:] > 0
    coded = np.where(inside, np.rint(np.clip(values, 0, 1) * 65535), 0).astype(np.uint16)
    path.write_bytes(cv2.imencode(".tiff", coded[..., ::-1])[1].tobytes())


def _filled(size: Size, other: Size, places: Callable[[Floats], Floats]) -> Map:
    out = np.empty((size.height, size.width, 3), np.float32)
    across = np.arange(size.width, dtype=np.float64)
    for top in range(0, size.height, ROWS):
        down = np.arange(top, min(top + ROWS, size.height), dtype=np.float64)
        x, y = np.meshgrid(across, down)
        found = places(np.stack([x.ravel(), y.ravel()], -1))
        s = (found[:, 0] + 0.5) / other.width
        t = 1 - (found[:, 1] + 0.5) / other.height
        inside = (s >= 0) & (s <= 1) & (t >= 0) & (t <= 1)
        part = np.stack([s, t, inside], -1)
        part[:, :2] = np.clip(np.nan_to_num(part[:, :2], nan=-FURTHEST), -FURTHEST, FURTHEST)
        out[top : top + len(down)] = part.reshape(len(down), size.width, 3)
    return out
