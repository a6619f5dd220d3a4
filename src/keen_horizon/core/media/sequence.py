"""Frames to numbered pictures in one ZIP file: 8-bit or 16-bit PNG, or 16-bit TIFF, and a table of their times."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from av.video.reformatter import ColorRange, Colorspace, VideoReformatter
from numpy.typing import NDArray

from keen_horizon.core.media.encode import EncodeSettings, picture_frame, whole_or_nothing
from keen_horizon.core.media.frames import Plane

_MATRICES = {1: Colorspace.ITU709, 9: Colorspace.ITU709, 10: Colorspace.ITU709}


class SequenceWriter:
    """Adds numbered pictures to an open archive. Made by `write_sequence`."""

    def __init__(self, archive: zipfile.ZipFile, stem: str, settings: EncodeSettings, first: int) -> None:
        self._archive, self._stem, self._settings, self._number = archive, stem, settings, first
        self._convert = VideoReformatter()
        self._times: list[str] = ["frame,time_s"]

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Add one picture shown at `time` seconds."""
        name = f"{self._stem}.{self._number:06}"
        picture = self._rgb(planes)
        if self._settings.codec == "png":
            encoded = cv2.imencode(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 2])[1]
            self._archive.writestr(f"{name}.png", encoded.tobytes())
        else:
            encoded = cv2.imencode(".tiff", picture)[1]
            self._archive.writestr(f"{name}.tif", encoded.tobytes())
        self._times.append(f"{self._number},{float(time):.6f}")
        self._number += 1

    def finish(self) -> None:
        """Add the table of times."""
        self._archive.writestr(f"{self._stem}.times.csv", "\n".join(self._times) + "\n")

    def _rgb(self, planes: tuple[Plane, ...]) -> NDArray[np.uint8 | np.uint16]:
        """The picture (rows, columns, 3) as BGR, 16 bits deep where the source or the format is."""
        settings = self._settings
        deep = settings.codec == "tiff" or settings.bit_depth > 8
        tags = settings.tags
        matrix = _MATRICES.get(tags.matrix, Colorspace.ITU601) if tags else Colorspace.ITU601
        full = tags is not None and tags.range == 2
        converted = self._convert.reformat(
            picture_frame(planes, settings),
            format="bgr48le" if deep else "bgr24",
            src_colorspace=matrix,
            dst_colorspace=matrix,
            src_color_range=ColorRange.JPEG if full else ColorRange.MPEG,
            dst_color_range=ColorRange.JPEG,
        )
        return np.asarray(converted.to_ndarray())


@contextmanager
def write_sequence(path: Path, settings: EncodeSettings, first: int = 0) -> Iterator[SequenceWriter]:
    """Open the archive `path`; pictures are numbered from `first`. Raises EncodeError; see `write_video`."""
    partial = path.with_name(path.name + ".part")
    with whole_or_nothing(path, partial), zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive:
        writer = SequenceWriter(archive, path.stem, settings, first)
        yield writer
        writer.finish()
