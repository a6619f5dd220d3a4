"""Pictures in a folder or a ZIP file, by name, a picture's bytes at a time; nothing is written, sizes are bounded."""

from __future__ import annotations

import zipfile
import zlib
from pathlib import Path, PurePath

from keen_horizon.core.errors import MediaError

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
        with zipfile.ZipFile(path) as archive:
            if archive.getinfo(entry).file_size > LARGEST_PICTURE:
                raise MediaError(f"{name}: {entry} is too large for a picture.")
            return archive.read(entry)
    except (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, ValueError, OSError) as error:
        raise MediaError(f"{name}: {entry} cannot be unpacked. Pack the pictures again.") from error
