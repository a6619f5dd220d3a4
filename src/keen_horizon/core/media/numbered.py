"""Numbered pictures as a clip: PNG, TIFF, JPEG or EXR in a folder or a ZIP file.

A picture's number is the last one in its name; numbers that are missing are stood in for by the picture before. R, G, B
become BT.709's Y, U, V with at least two bits more than the pictures have, so that the way there and back is exact.
EXR's linear light takes sRGB's transfer at 16 bits on the way, and what is brighter than its white is cut off.

How many are shown a second is told by a `pictures.json` as renders have it, by EXR's own `framesPerSecond`, by the
editor, and else taken to be 25.
"""

from __future__ import annotations

import json
import re
import tempfile
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path, PurePath
from typing import Any

import numpy as np
import OpenEXR
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, UnreadableVideoError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.archives import contents, decoded, names_in
from keen_horizon.core.media.transfer import PRIMARY_NAMES, TRANSFER_NAMES, coded_srgb
from keen_horizon.core.nesting import DEEPEST, levels

Rgba = NDArray[np.uint8 | np.uint16]
Stored = NDArray[np.uint16]

SUFFIXES = (".png", ".tif", ".tiff", ".jpg", ".jpeg", ".exr")
CODECS = {".png": "png", ".tif": "tiff", ".tiff": "tiff", ".jpg": "mjpeg", ".jpeg": "mjpeg", ".exr": "exr"}
USUAL_RATE = Fraction(25)
SRGB, BT709 = 13, 1
DEPTHS = {8: 10, 16: 16}  # of what is made of pictures of 8 and 16 bits
MOST_PIXELS = 1 << 28
_ZIP = (b"PK\x03\x04", b"PK\x05\x06")  # with files in it, and empty
_NUMBER = re.compile(r"(\d+)\D*$")
_KR, _KB = 0.2126, 0.0722  # BT.709


@dataclass(frozen=True)
class Numbered:
    """Pictures of a folder or ZIP file: their entries and frame numbers, and what is told about them."""

    path: Path
    entries: tuple[str, ...]
    numbers: tuple[int, ...]
    rate: Fraction | None
    transfer: int
    primaries: int

    @property
    def frames(self) -> int:
        """Frames from the first picture to the last, missing ones counted."""
        return self.numbers[-1] + 1

    @property
    def codec(self) -> str:
        """The pictures' kind, as FFmpeg names it."""
        return CODECS[PurePath(self.entries[0]).suffix.lower()]

    def from_frame(self, first: int) -> range:
        """Indices of the pictures from the one that stands at frame `first` on."""
        before = max((i for i, number in enumerate(self.numbers) if number <= first), default=0)
        return range(before, len(self.numbers))

    def picture(self, index: int) -> Rgba:
        """A picture (rows, columns, 3 or 4) in R, G, B, A. Raises MediaError, UnreadableVideoError."""
        entry = self.entries[index]
        data = contents(self.path, entry, self.path.name)
        return _exr(data, entry) if entry.lower().endswith(".exr") else decoded(data, entry, "Export it again.")


def is_numbered(path: Path) -> bool:
    """Whether a path is a folder or a ZIP file."""
    if path.is_dir():
        return True
    with path.open("rb") as file:
        return file.read(4) in _ZIP


def numbered(path: Path) -> Numbered:
    """The pictures of a folder or ZIP file, one kind of them. Raises MediaError."""
    found = names_in(path, SUFFIXES, path.name)
    named = {entry: _NUMBER.search(PurePath(entry).stem) for entry in found}
    numbers = {entry: int(number[1]) for entry, number in named.items() if number}
    kinds = {CODECS[PurePath(entry).suffix.lower()] for entry in numbers}
    if not numbers:
        raise MediaError(f"{path.name}: there are no numbered pictures (PNG, TIFF, JPEG, EXR) in it.")
    if len(kinds) > 1 or len(set(numbers.values())) < len(numbers):
        raise MediaError(f"{path.name}: it holds more than one series of pictures. Pack each by itself.")
    entries = sorted(numbers, key=lambda entry: numbers[entry])
    first = numbers[entries[0]]
    if numbers[entries[-1]] - first >= 10 * len(entries) + 1000:
        raise MediaError(f"{path.name}: its pictures' numbers leave too many out. Number them one by one.")
    told = _told(path)
    return Numbered(
        path=path,
        entries=tuple(entries),
        numbers=tuple(numbers[entry] - first for entry in entries),
        rate=_rate(told.get("frames_per_second")) or _exr_rate(path, entries[0]),
        transfer=_named(TRANSFER_NAMES, told.get("transfer")) or SRGB,
        primaries=_named(PRIMARY_NAMES, told.get("primaries")) or BT709,
    )


def size_of(picture: Rgba) -> Size:
    """A picture's size."""
    return Size(picture.shape[1], picture.shape[0])


def as_planes(picture: Rgba) -> tuple[tuple[Stored, Stored, Stored], Stored | None, int]:
    """Y, U, V of BT.709 and limited range, the coverage where there is one, and how many bits they have."""
    bits = 8 * picture.dtype.itemsize
    depth = DEPTHS[bits]
    values = picture.astype(np.float32) / np.float32((1 << bits) - 1)
    red, green, blue = (values[..., i] for i in range(3))
    luma = _KR * red + (1 - _KR - _KB) * green + _KB * blue
    unit = np.float32(1 << (depth - 8))
    coded = (
        (16 + 219 * luma) * unit,
        (128 + 224 * (blue - luma) / (2 * (1 - _KB))) * unit,
        (128 + 224 * (red - luma) / (2 * (1 - _KR))) * unit,
    )
    y, u, v = (np.rint(plane).astype(np.uint16) for plane in coded)
    alpha = None
    if picture.shape[2] == 4:
        alpha = np.rint(values[..., 3] * np.float32((1 << depth) - 1)).astype(np.uint16)
    return (y, u, v), alpha, depth


def _exr(data: bytes, entry: str) -> Rgba:
    """Linear light, coverage multiplied in, as 16 bits of sRGB's transfer, straight."""
    with tempfile.NamedTemporaryFile(suffix=".exr") as file:
        file.write(data)
        file.flush()
        try:
            opened = OpenEXR.File(file.name, header_only=True)
            header = opened.header()
            low, high = header["dataWindow"]
            if int(np.prod([int(b) - int(a) + 1 for a, b in zip(low, high, strict=True)])) > MOST_PIXELS:
                raise UnreadableVideoError(f"{entry}: its picture is larger than can be read.")
            opened = OpenEXR.File(file.name, separate_channels=True)
            channels = {name: channel.pixels for name, channel in opened.channels().items()}
            colours = [channels[name] for name in "RGB"] if "R" in channels else [channels["Y"]] * 3
        except (RuntimeError, ValueError, KeyError, TypeError, MemoryError) as error:
            raise UnreadableVideoError(f"{entry}: this EXR picture cannot be read. Export it as R, G, B.") from error
    light = np.nan_to_num(np.stack(colours, -1).astype(np.float32), nan=0, posinf=1, neginf=0)
    cover = channels.get("A")
    if cover is None:
        return _sixteen(coded_srgb(light))
    cover = np.clip(np.nan_to_num(cover.astype(np.float32)), 0, 1)[..., None]
    straight = np.where(cover > 0, light / np.maximum(cover, np.float32(1e-6)), 0)
    return _sixteen(np.concatenate([coded_srgb(straight.astype(np.float32)), cover], -1))


def _sixteen(values: NDArray[np.float32]) -> NDArray[np.uint16]:
    return np.rint(np.clip(values, 0, 1) * 65535).astype(np.uint16)


def _told(path: Path) -> dict[str, Any]:
    """What `pictures.json` says, where it is there and can be read."""
    if "pictures.json" not in names_in(path, (".json",), path.name):
        return {}
    try:
        text = contents(path, "pictures.json", path.name).decode()
        told = json.loads(text) if levels(text) <= DEEPEST else {}
    except ValueError:
        return {}
    return told if isinstance(told, dict) else {}


def _rate(told: Any) -> Fraction | None:
    try:
        rate = Fraction(str(told))
    except (ValueError, ZeroDivisionError):
        return None
    return rate if Fraction(1, 100) <= rate <= 1000 else None


def _exr_rate(path: Path, entry: str) -> Fraction | None:
    if not entry.lower().endswith(".exr"):
        return None
    with tempfile.NamedTemporaryFile(suffix=".exr") as file:
        file.write(contents(path, entry, path.name))
        file.flush()
        try:
            opened = OpenEXR.File(file.name, header_only=True)
            told = opened.header().get("framesPerSecond")
        except (RuntimeError, ValueError):
            return None
    return _rate(told) if told is not None else None


def _named(names: dict[int, str], told: Any) -> int | None:
    return next((number for number, name in names.items() if name == told), None)
