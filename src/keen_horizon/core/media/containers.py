"""Opening untrusted files: which containers are let in.

FFmpeg guesses a format from the bytes, and some formats (playlists, concatenation scripts, image
patterns) make it open other files or addresses. So the format is chosen here from the first bytes,
by this list alone, and handed over as a fixed choice.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import av
import av.container
import av.error

from keen_horizon.core.errors import MediaError, NotVideoError

_EBML = b"\x1a\x45\xdf\xa3"
_MOV_BOXES = {b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot"}
LONGEST_OPENING_S = 60  # an index of millions of empty boxes would take minutes
NAMES = "MP4, MOV, MKV, WebM, AVI, MPEG transport and programme streams (MTS, M2TS, TS, MPG), MXF and DV"
SUFFIXES = (".mp4", ".mov", ".m4v", ".mkv", ".webm", ".avi", ".mts", ".m2ts", ".ts", ".mpg", ".mpeg", ".mxf", ".dv")

_PROGRAMME_PACK = b"\x00\x00\x01\xba"  # ISO/IEC 13818-1, 2.5.3.4
_MXF_PARTITION = b"\x06\x0e\x2b\x34\x02\x05\x01\x01\x0d\x01\x02"  # SMPTE ST 377-1, 7.1
_TS_SYNC, _TS_PACKETS, _TS_SEEN = 0x47, (188, 192, 204), 5  # plain, with a time stamp (AVCHD), with Reed-Solomon bytes
_HEAD = max(_TS_PACKETS) * (_TS_SEEN + 1)


def container_format(head: bytes) -> str | None:
    """FFmpeg's demuxer name for the first `_HEAD` bytes of a file, or None when not on the list."""
    if head[4:8] in _MOV_BOXES:
        return "mov"
    if head[:4] == _EBML:
        return "matroska"
    if head[:4] == b"RIFF" and head[8:12] == b"AVI ":
        return "avi"
    if head[:4] == _PROGRAMME_PACK:
        return "mpeg"
    if head[: len(_MXF_PARTITION)] == _MXF_PARTITION:
        return "mxf"
    if _is_dv(head):
        return "dv"
    if _is_transport_stream(head):
        return "mpegts"
    return None


def _is_dv(head: bytes) -> bool:
    """Whether a raw DV stream begins here: the header block of its first sequence (IEC 61834-2)."""
    return len(head) > 3 and head[:3] == b"\x1f\x07\x00" and head[3] & 0x7F == 0x3F


def _is_transport_stream(head: bytes) -> bool:
    """Whether sync bytes come at a packet's distance; the first packet may be cut."""
    for packet in _TS_PACKETS:
        for start in range(packet):
            seen = head[start::packet][:_TS_SEEN]
            if len(seen) == _TS_SEEN and set(seen) == {_TS_SYNC}:
                return True
    return False


def open_input(path: Path) -> av.container.InputContainer:
    """Open a media file for reading.

    Raises NotVideoError when the container is not on the list or holds no video, MediaError when
    the file cannot be read.
    """
    try:
        with path.open("rb") as file:
            head = file.read(_HEAD)
    except OSError as error:
        raise MediaError(f"{path.name}: the file cannot be read ({error.strerror}).") from error
    if not head:
        raise NotVideoError(f"{path.name}: the file is empty. Copy it again from the camera.")
    name = container_format(head)
    if name is None:
        raise NotVideoError(f"{path.name}: this is not a video file that can be opened. Use {NAMES}.")
    options: dict[str, Any] = {"protocol_whitelist": "file"}
    if name == "mov":
        options |= {"enable_drefs": "0", "use_absolute_path": "0"}
    try:
        container = av.open(
            str(path), format=name, options=options, metadata_errors="replace", timeout=(LONGEST_OPENING_S, None)
        )
    except (av.error.FFmpegError, ValueError) as error:
        raise NotVideoError(
            f"{path.name}: the file is damaged or incomplete and cannot be opened. "
            "Copy it again from the camera; if it was cut off while recording, repair its index first."
        ) from error
    if not container.streams.video:
        container.close()
        raise NotVideoError(f"{path.name}: there is no picture in this file, only sound or data.")
    return container
