"""Graphics to lay over a clip: a picture, a folder or ZIP of numbered pictures, or a video, with or without alpha."""

from __future__ import annotations

import itertools
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import av.error
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError
from keen_horizon.core.media.archives import contents, decoded, names_in
from keen_horizon.core.media.containers import open_input

Picture = NDArray[np.uint8 | np.uint16]

PICTURES = (".png", ".tif", ".tiff")
KINDS = "a PNG or TIFF picture, a ZIP or folder of them, or a video"


def read_layers(path: Path, name: str | None = None) -> Iterator[Picture]:
    """Pictures (rows, columns, 3 or 4) in R, G, B, A, one a frame; a single picture goes on for ever.

    `name` is what the editor calls the file. Raises MediaError when there is not one.
    """
    name = name or path.name
    if path.suffix.lower() in PICTURES:
        return itertools.repeat(_decoded(path.read_bytes(), name))
    if path.is_dir() or path.suffix.lower() == ".zip" or zipfile.is_zipfile(path):
        return _several(path, name)
    return _video(path, name)


def _several(path: Path, name: str) -> Iterator[Picture]:
    entries = names_in(path, PICTURES, name)
    if not entries:
        raise MediaError(
            f"{name}: there is no PNG or TIFF picture in this {'folder' if path.is_dir() else 'ZIP file'}."
        )
    return (_decoded(contents(path, entry, name), entry) for entry in entries)


def _decoded(data: bytes, name: str) -> Picture:
    return decoded(data, name, f"Use {KINDS}.")


def _video(path: Path, name: str) -> Iterator[Picture]:
    with _opened(path, name) as container:
        try:
            for frame in container.decode(video=0):
                yield np.asarray(frame.to_ndarray(format="rgba64le"))
        except av.error.FFmpegError as error:
            raise MediaError(f"{name}: the graphics break off. Render them again.") from error


def _opened(path: Path, name: str) -> Any:
    try:
        return open_input(path)
    except MediaError as error:
        raise type(error)(str(error).replace(path.name, name)) from error
