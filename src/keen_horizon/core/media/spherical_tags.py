"""Writing into a finished file that its pictures are spheres, so that players open it as 360.

MP4 and MOV get the open Spherical Video metadata, V2's boxes in the video's sample entry and V1's XML beside its track
(which more players read); Matroska and WebM the projection element of RFC 9559. Nothing else of the file moves: MP4's
index is its last box, and Matroska's header has room to spare, which FFmpeg leaves before it.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from uuid import UUID

from keen_horizon.core.errors import EncodeError

XML_BOX = UUID("ffcc8263-f855-4a93-8814-587a02521fdd").bytes
MAKER = "Keen Horizon"
XML = f"""<?xml version="1.0"?>
<rdf:SphericalVideo xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"
 xmlns:GSpherical="http://ns.google.com/videos/1.0/spherical/">
<GSpherical:Spherical>true</GSpherical:Spherical>
<GSpherical:Stitched>true</GSpherical:Stitched>
<GSpherical:StitchingSoftware>{MAKER}</GSpherical:StitchingSoftware>
<GSpherical:ProjectionType>equirectangular</GSpherical:ProjectionType>
</rdf:SphericalVideo>"""
_SAMPLE_ENTRY = 8 + 78  # bytes of a box's head and of a visual sample entry before its own boxes (ISO/IEC 14496-12)

_SEGMENT, _SEEK_HEAD, _VOID, _TRACKS = 0x18538067, 0x114D9B74, 0xEC, 0x1654AE6B
_SEEK, _SEEK_POSITION = 0x4DBB, 0x53AC
_TRACK, _VIDEO, _CRC = 0xAE, 0xE0, 0xBF
_HEAD = 1 << 20  # of a Matroska file, which holds all before its pictures


def tag_sphere(path: Path, container: str) -> None:
    """Mark a finished file's video as an equirectangular sphere. Raises EncodeError where it has no place for that."""
    if container in ("mp4", "mov"):
        _tag_mp4(path)
    elif container in ("mkv", "webm"):
        _tag_matroska(path)


def _box(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I4s", 8 + len(content), kind) + content


def _boxes(data: bytes, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """Kind, start and end of the boxes in part of a file."""
    while start + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, start)
        if size < 8 or start + size > end:
            return
        yield kind, start, start + size
        start += size


def _tag_mp4(path: Path) -> None:
    start, moov = _last_box(path)
    tagged = _with_sphere(moov)
    with path.open("r+b") as file:
        file.seek(start)
        file.write(tagged)


def _last_box(path: Path) -> tuple[int, bytes]:
    """Where the index of an MP4 begins, and its bytes."""
    length = path.stat().st_size
    with path.open("rb") as file:
        start = 0
        while start + 8 <= length:
            file.seek(start)
            size, kind = struct.unpack(">I4s", file.read(8))
            if size == 1:
                size = int.from_bytes(file.read(8), "big")
            size = size or length - start
            if kind == b"moov" and start + size == length:
                file.seek(start)
                return start, file.read(size)
            start += max(8, size)
    raise EncodeError(f"{path.name}: its index is not at the end, so it could not be marked as a sphere.")


def _with_sphere(moov: bytes) -> bytes:
    """An index whose video tracks are marked."""
    tracks = []
    for kind, start, end in _boxes(moov, 8, len(moov)):
        box = moov[start:end]
        tracks.append(_marked_track(box) if kind == b"trak" and b"vmhd" in box else box)
    return _box(b"moov", b"".join(tracks))


def _marked_track(track: bytes) -> bytes:
    return _box(b"trak", _marked(track, (b"mdia", b"minf", b"stbl", b"stsd")) + _box(b"uuid", XML_BOX + XML.encode()))


def _marked(box: bytes, within: tuple[bytes, ...]) -> bytes:
    """The content of a box, in which the sample entry at the end of a path of boxes is marked."""
    head = 8 + (8 if box[4:8] == b"stsd" else 0)
    parts = [box[8:head]]
    for kind, start, end in _boxes(box, head, len(box)):
        part = box[start:end]
        if within and kind == within[0]:
            part = _box(kind, _marked(part, within[1:]))
        elif not within and len(part) >= _SAMPLE_ENTRY:
            part = _box(kind, part[8:] + _projection_boxes())
        parts.append(part)
    return b"".join(parts)


def _projection_boxes() -> bytes:
    full = bytes(4)  # version and flags
    equirectangular = _box(b"equi", full + bytes(16))
    projection = _box(b"proj", _box(b"prhd", full + bytes(12)) + equirectangular)
    return _box(b"st3d", full + b"\0") + _box(b"sv3d", _box(b"svhd", full + MAKER.encode() + b"\0") + projection)


@dataclass(frozen=True)
class _Element:
    """Of a Matroska file: where an element begins, where what it holds begins, and where that ends."""

    name: int
    start: int
    content: int
    end: int


def _elements(data: bytes, start: int, end: int) -> Iterator[_Element]:
    while start < end:
        name, content = _number(data, start, marked=True)
        size, content = _number(data, content, marked=False)
        yield _Element(name, start, content, content + size)
        start = content + size


def _number(data: bytes, at: int, *, marked: bool) -> tuple[int, int]:
    """A number of a length that its first bits tell, with them or without, and where it ends (RFC 8794, 4)."""
    length = 9 - data[at].bit_length() if at < len(data) and data[at] else 9
    if length > 8 or at + length > len(data):
        raise ValueError("no element")
    value = int.from_bytes(data[at : at + length], "big")
    return value if marked else value & ((1 << (7 * length)) - 1), at + length


def _element(name: int, content: bytes) -> bytes:
    told = name.to_bytes((name.bit_length() + 7) // 8, "big")
    length = next(n for n in range(1, 9) if len(content) < (1 << (7 * n)) - 1)
    return told + (len(content) | 1 << (7 * length)).to_bytes(length, "big") + content


def _tag_matroska(path: Path) -> None:
    with path.open("r+b") as file:
        data = file.read(_HEAD)
        try:
            start, changed = _marked_header(data)
        except (ValueError, StopIteration) as error:
            raise EncodeError(f"{path.name}: its header has no room to mark it as a sphere.") from error
        file.seek(start)
        file.write(changed)


def _marked_header(data: bytes) -> tuple[int, bytes]:
    """Where a file's header changes, and what it is from there on; as long as before. Raises ValueError."""
    segment = next(one for one in _elements(data, 0, len(data)) if one.name == _SEGMENT)
    head: dict[int, _Element] = {}
    for one in _elements(data, segment.content, len(data)):
        head[one.name] = one
        if one.name == _TRACKS:
            break
    seek, room, tracks = head[_SEEK_HEAD], head[_VOID], head[_TRACKS]
    if seek.end != room.start:
        raise ValueError("no room beside the list")
    marked = _held(data, tracks, (_TRACK, _VIDEO))
    growth = len(marked) - (tracks.end - tracks.start)
    left = room.end - room.start - growth - 9
    if left < 0:
        raise ValueError("too little room")
    listed = _moved_list(data, seek, room.end - segment.content, tracks.end - segment.content, growth)
    smaller = b"\xec\x01" + left.to_bytes(7, "big") + bytes(left)
    return seek.start, listed + smaller + data[room.end : tracks.start] + marked


def _held(data: bytes, element: _Element, within: tuple[int, ...]) -> bytes:
    """An element again, in which those at the end of a path of elements hold the projection, its sums made anew."""
    parts, summed = [], False
    if not within:
        parts = [data[element.content : element.end], _projection_element()]
    else:
        for one in _elements(data, element.content, element.end):
            if one.name == _CRC:
                summed = True
            else:
                parts.append(_held(data, one, within[1:]) if one.name == within[0] else data[one.start : one.end])
    return _element(element.name, _with_sum(b"".join(parts)) if summed else b"".join(parts))


def _with_sum(content: bytes) -> bytes:
    return _element(_CRC, zlib.crc32(content).to_bytes(4, "little")) + content


def _projection_element() -> bytes:
    return _element(0x7670, _element(0x7671, b"\1") + _element(0x7672, bytes(20)))


def _moved_list(data: bytes, seek: _Element, first: int, last: int, growth: int) -> bytes:
    """The list of where elements lie, those between two places `growth` bytes earlier; as long as before."""
    parts, summed = [], False
    for one in _elements(data, seek.content, seek.end):
        part = bytearray(data[one.start : one.end])
        for told in _elements(data, one.content, one.end) if one.name == _SEEK else ():
            place = int.from_bytes(data[told.content : told.end], "big")
            if told.name == _SEEK_POSITION and first <= place < last:
                moved = (place - growth).to_bytes(told.end - told.content, "big")
                part[told.content - one.start : told.end - one.start] = moved
        summed = summed or one.name == _CRC
        parts.append(b"" if one.name == _CRC else bytes(part))
    content = b"".join(parts)
    return data[seek.start : seek.content] + (_with_sum(content) if summed else content)
