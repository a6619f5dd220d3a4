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
from av.video.reformatter import ColorRange, Colorspace, VideoReformatter
from numpy.typing import NDArray

from keen_horizon.core.media.encode import EncodeSettings, picture_frame, whole_or_nothing
from keen_horizon.core.media.frames import Plane
from keen_horizon.core.media.timecode import Timecode
from keen_horizon.core.media.transfer import PRIMARY_NAMES, TRANSFER_NAMES, linear

_PACKED = {(False, False): "bgr24", (False, True): "bgra", (True, False): "bgr48le", (True, True): "rgba64le"}
_MATRICES = {1: Colorspace.ITU709, 9: Colorspace.ITU709, 10: Colorspace.ITU709}


class SequenceWriter:
    """Adds numbered pictures to an open archive. Made by `write_sequence`."""

    def __init__(
        self, archive: zipfile.ZipFile, stem: str, settings: EncodeSettings, first: int, timecode: Timecode | None
    ) -> None:
        self._archive, self._stem, self._settings, self._number = archive, stem, settings, first
        self._timecode = timecode
        self._convert = VideoReformatter()
        self._times: list[str] = ["frame,time_s" + (",timecode" if timecode else "")]

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Add one picture shown at `time` seconds."""
        name = f"{self._stem}.{self._number:06}"
        picture = self._rgb(planes)
        if self._settings.codec == "png":
            encoded = cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 2])[1]
            self._archive.writestr(f"{name}.png", encoded.tobytes())
        elif self._settings.codec == "tiff":
            encoded = cv2.imencode(".tiff", picture)[1]
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
        linear = settings.codec == "exr"
        return {
            "depth": "half float" if linear else 16 if self._deep else 8,
            "transfer": "linear" if linear else TRANSFER_NAMES.get(tags.transfer if tags else 2, "not told"),
            "primaries": PRIMARY_NAMES.get(tags.primaries if tags else 2, "not told"),
            "alpha": "straight" if settings.alpha else None,
            "frames_per_second": str(settings.rate),
        }

    def _exr(self, picture: NDArray[np.uint8 | np.uint16]) -> bytes:
        """A picture as EXR of linear light, coverage multiplied in, as the format has it."""
        tags = self._settings.tags
        coded = np.asarray(picture / np.float32(np.iinfo(picture.dtype).max), np.float32)
        values = linear(coded[..., :3], tags.transfer if tags else 2)
        channels = {"B": values[..., 0], "G": values[..., 1], "R": values[..., 2]}
        if self._settings.alpha:
            cover = coded[..., 3]
            channels = {name: value * cover for name, value in channels.items()} | {"A": cover}
        halves = {name: np.ascontiguousarray(value, np.float16) for name, value in channels.items()}
        header = {
            "compression": OpenEXR.ZIP_COMPRESSION,
            "type": OpenEXR.scanlineimage,
            "framesPerSecond": OpenEXR.Rational(self._settings.rate.numerator, self._settings.rate.denominator),
        }
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "picture.exr"
            OpenEXR.File(header, halves).write(str(file))
            return file.read_bytes()

    @property
    def _deep(self) -> bool:
        return self._settings.codec != "png" or self._settings.bit_depth > 8

    def _rgb(self, planes: tuple[Plane, ...]) -> NDArray[np.uint8 | np.uint16]:
        """The picture (rows, columns, 3) as BGR, 16 bits deep where the source or the format is."""
        settings = self._settings
        tags = settings.tags
        matrix = _MATRICES.get(tags.matrix, Colorspace.ITU601) if tags else Colorspace.ITU601
        full = tags is not None and tags.range == 2
        converted = self._convert.reformat(
            picture_frame(planes, settings),
            format=_PACKED[self._deep, settings.alpha],
            src_colorspace=matrix,
            dst_colorspace=matrix,
            src_color_range=ColorRange.JPEG if full else ColorRange.MPEG,
            dst_color_range=ColorRange.JPEG,
        )
        picture: NDArray[np.uint8 | np.uint16] = np.asarray(
            converted.to_ndarray(), np.uint16 if self._deep else np.uint8
        )
        return picture[..., [2, 1, 0, 3]] if self._deep and settings.alpha else picture


@contextmanager
def write_sequence(
    path: Path, settings: EncodeSettings, first: int = 0, timecode: Timecode | None = None
) -> Iterator[SequenceWriter]:
    """Open the archive `path`; pictures are numbered from `first`. `timecode` is that of frame 0 of the clip.

    Raises EncodeError; see `write_video`.
    """
    partial = path.with_name(path.name + ".part")
    with whole_or_nothing(path, partial), zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive:
        writer = SequenceWriter(archive, path.stem, settings, first, timecode)
        yield writer
        writer.finish()
