"""Frames to numbered pictures in one ZIP file, and a table of their times.

PNG of 8 or 16 bits and TIFF of 16 hold R, G, B as the source's transfer has them; EXR holds linear light in half
floats, relative to the transfer's own white. A file `pictures.json` says which, for pictures cannot.
"""

from __future__ import annotations

import json
import tempfile
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import OpenEXR
from numpy.typing import NDArray

from keen_horizon.core.media.colour import rgb_of
from keen_horizon.core.media.encode import EncodeSettings, whole_or_nothing
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.media.timecode import Timecode
from keen_horizon.core.media.transfer import PRIMARY_NAMES, TRANSFER_NAMES, linear

Rgba = NDArray[np.float32]


class SequenceWriter:
    """Adds numbered pictures to an open archive. Made by `write_sequence`."""

    def __init__(
        self, archive: zipfile.ZipFile, stem: str, settings: EncodeSettings, first: int, timecode: Timecode | None
    ) -> None:
        self._archive, self._stem, self._settings, self._number = archive, stem, settings, first
        self._timecode = timecode
        self._times: list[str] = ["frame,time_s" + (",timecode" if timecode else "")]

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Add one picture shown at `time` seconds."""
        name = f"{self._stem}.{self._number:06}"
        picture = self._rgba(planes)
        if self._settings.codec == "png":
            encoded = cv2.imencode(".png", self._whole(picture), [cv2.IMWRITE_PNG_COMPRESSION, 2])[1]
            self._archive.writestr(f"{name}.png", encoded.tobytes())
        elif self._settings.codec == "tiff":
            encoded = cv2.imencode(".tiff", self._whole(picture))[1]
            self._archive.writestr(f"{name}.tif", encoded.tobytes())
        else:
            self._archive.writestr(f"{name}.exr", self._exr(picture))
        place = f",{self._timecode.plus(self._number)}" if self._timecode else ""
        self._times.append(f"{self._number},{float(time):.6f}{place}")
        self._number += 1

    def finish(self) -> None:
        """Add the table of times and what the pictures hold."""
        self._archive.writestr(f"{self._stem}.times.csv", "\n".join(self._times) + "\n")
        self._archive.writestr("pictures.json", json.dumps(self._facts(), indent=1))

    def _facts(self) -> dict[str, object]:
        settings, tags = self._settings, self._settings.tags
        light = settings.codec == "exr"
        return {
            "depth": "half float" if light else settings.picture_bits,
            "transfer": "linear" if light else TRANSFER_NAMES.get(tags.transfer if tags else 2, "not told"),
            "primaries": PRIMARY_NAMES.get(tags.primaries if tags else 2, "not told"),
            "alpha": ("multiplied in" if light else "straight") if settings.alpha else None,
            "frames_per_second": str(settings.rate),
        }

    def _exr(self, picture: Rgba) -> bytes:
        """A picture as EXR of linear light, coverage multiplied in, as the format has it."""
        tags = self._settings.tags
        values = linear(picture[..., :3], tags.transfer if tags else 2)
        channels = {name: values[..., i] for i, name in enumerate("RGB")}
        if self._settings.alpha:
            cover = picture[..., 3]
            channels = {name: value * cover for name, value in channels.items()} | {"A": cover}
        halves = {name: np.ascontiguousarray(value, np.float16) for name, value in channels.items()}
        header = {
            "compression": OpenEXR.ZIP_COMPRESSION,
            "type": OpenEXR.scanlineimage,
            "framesPerSecond": self._settings.rate,
        }
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "picture.exr"
            OpenEXR.File(header, halves).write(str(file))
            return file.read_bytes()

    def _whole(self, picture: Rgba) -> NDArray[np.uint8 | np.uint16]:
        """A picture as B, G, R and A of the bits that are written."""
        bits = self._settings.picture_bits
        values = np.rint(picture * np.float32((1 << bits) - 1)).astype(np.uint8 if bits == 8 else np.uint16)
        return np.ascontiguousarray(values[..., [2, 1, 0, 3][: values.shape[2]]])

    def _rgba(self, planes: tuple[Plane, ...]) -> Rgba:
        """The picture (rows, columns, 3 or 4) as R, G, B and A, 0 ... 1."""
        depth = self._settings.bit_depth
        colours = rgb_of(planes[0], planes[1], planes[2], depth, self._settings.tags)
        if not self._settings.alpha:
            return colours
        cover = planes[3].astype(np.float32) / np.float32((1 << depth) - 1)
        return np.concatenate([colours, cover[..., None]], -1)


@contextmanager
def write_sequence(
    path: Path, settings: EncodeSettings, first: int = 0, timecode: Timecode | None = None, stem: str | None = None
) -> Iterator[SequenceWriter]:
    """Open the archive `path`; pictures are called as it, or `stem`, and numbered from `first`. `timecode` is that of
    frame 0 of the clip.

    Raises EncodeError; see `write_video`.
    """
    partial = path.with_name(path.name + ".part")
    with whole_or_nothing(path, partial), zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive:
        writer = SequenceWriter(archive, stem or path.stem, settings, first, timecode)
        yield writer
        writer.finish()
