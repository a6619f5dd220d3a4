"""Pictures in a folder or a ZIP file, by name, a picture's bytes at a time; nothing is written, sizes are bounded."""

from __future__ import annotations

import zipfile
import zlib
from functools import lru_cache
from pathlib import Path, PurePath

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, UnreadableVideoError

LARGEST_PICTURE = 1 << 28


def names_in(path: Path, suffixes: tuple[str, ...], name: str) -> list[str]:
    """Names of a folder's or ZIP file's pictures, sorted. Raises MediaError, naming it `name`."""
    if path.is_dir():
        return sorted(file.name for file in path.iterdir() if file.suffix.lower() in suffixes)
    try:
        with zipfile.ZipFile(path) as archive:
            return sorted(e.filename for e in archive.infolist() if PurePath(e.filename).suffix.lower() in suffixes)
    except (zipfile.BadZipFile, ValueError, NotImplementedError, OSError) as error:
        raise MediaError(f"{name}: this ZIP file is damaged or incomplete. Pack the pictures again.") from error


def contents(path: Path, entry: str, name: str) -> bytes:
    """The bytes of one of them. Raises MediaError, naming the whole `name`."""
    if path.is_dir():
        file = path / entry
        if file.stat().st_size > LARGEST_PICTURE:
            raise MediaError(f"{name}: {entry} is too large for a picture.")
        return file.read_bytes()
    try:
        found = path.stat()
        archive = _opened(path, found.st_size, found.st_mtime_ns)
        if archive.getinfo(entry).file_size > LARGEST_PICTURE:
            raise MediaError(f"{name}: {entry} is too large for a picture.")
        return archive.read(entry)
    except (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, ValueError, OSError) as error:
        raise MediaError(f"{name}: {entry} cannot be unpacked. Pack the pictures again.") from error


@lru_cache(maxsize=2)
def _opened(path: Path, size: int, modified: int) -> zipfile.ZipFile:
    """An archive of that size and time (ns), whose table of thousands of pictures is not read for each of them."""
    return zipfile.ZipFile(path)


def decoded(data: bytes, name: str, instead: str) -> NDArray[np.uint8 | np.uint16]:
    """A PNG, TIFF or JPEG picture (rows, columns, 3 or 4) in R, G, B, A. Raises UnreadableVideoError, saying what to do
    `instead`.
    """
    try:
        picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED) if data else None
    except (cv2.error, MemoryError) as error:
        raise UnreadableVideoError(f"{name}: the picture is damaged, or larger than can be read. {instead}") from error
    if picture is None or picture.dtype not in (np.uint8, np.uint16):
        raise UnreadableVideoError(f"{name}: this is not a picture of 8 or 16 bits. {instead}")
    if picture.ndim == 2:
        picture = np.dstack([picture] * 3)
    return np.asarray(picture[..., [2, 1, 0, 3][: picture.shape[2]]])
