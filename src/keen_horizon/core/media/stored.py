"""Pictures as a file keeps them: decoded to planes at native depth, not yet upright, fields not yet parted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import av
import av.error
import av.video.format
import av.video.frame
import numpy as np
from av.video.reformatter import ColorRange, Colorspace
from numpy.typing import NDArray

from keen_horizon.core.media.orientation import quarter_turns

Plane = NDArray[np.uint8 | np.uint16]

_LAYOUTS, _DEPTHS = ("420p", "422p", "444p"), ("", "10le", "12le", "16le")
PLANAR_FORMATS = {base + layout + depth for base in ("yuv", "yuva") for layout in _LAYOUTS for depth in _DEPTHS} | {
    "yuvj" + layout for layout in _LAYOUTS
}


@dataclass(frozen=True)
class Tags:
    """Colour tags as the standards number them (ITU-T H.273), with the range (1 limited, 2 full) and the site of
    chroma samples (see `chroma.py`).
    """

    primaries: int
    transfer: int
    matrix: int
    range: int
    site: int = 0


@dataclass(frozen=True)
class Stored:
    """One decoded picture: planes Y, U, V (rows, columns), and `alpha` where the file has it, before the quarter
    `turns` anticlockwise that make it upright. `time` is in seconds on the file's own clock, where it is told; `tags`
    are without the chroma's site.
    """

    planes: tuple[Plane, ...]
    depth: int
    time: Fraction | None
    tags: Tags
    turns: int = 0
    alpha: Plane | None = None

    @property
    def all_planes(self) -> tuple[Plane, ...]:
        """Y, U, V and coverage, where it has it."""
        return self.planes if self.alpha is None else (*self.planes, self.alpha)


def decoded_pictures(container: Any, stream: Any) -> Iterator[av.video.frame.VideoFrame]:
    """What a stream decodes to, as stored, passing over what is damaged."""
    packets = container.demux(stream)
    decode = _decoder_of(stream)
    while True:
        try:
            packet = next(packets, None)
        except av.error.FFmpegError:
            packet = None  # the file breaks off here: what was decoded so far is flushed below
        try:
            yield from decode(packet)
        except av.error.FFmpegError:
            if packet is not None:
                continue  # one damaged picture is passed over
        if packet is None or packet.size == 0:
            return


def _decoder_of(stream: Any) -> Callable[[Any], list[Any]]:
    """What decodes a stream's packets (None: what is left). VP9 keeps coverage beside, which one decoder knows of."""
    if stream.codec_context is None:  # of a kind that nothing here decodes
        return lambda packet: []
    if stream.codec_context.name == "vp9" and stream.metadata.get("alpha_mode") == "1":
        decoder = av.CodecContext.create("libvpx-vp9", "r")
        return lambda packet: decoder.decode(packet if packet is not None and packet.size else None)
    return lambda packet: packet.decode() if packet is not None else stream.decode(None)


def is_full_range(raw: av.video.frame.VideoFrame) -> bool:
    """Whether a decoded frame uses all codes, as its format or its tags say."""
    return bool(raw.format.name.startswith("yuvj") or int(raw.color_range) == 2)


def stored_picture(raw: av.video.frame.VideoFrame) -> Stored:
    """A decoded frame's planes, converted only where their format is of another kind."""
    matrix, range_ = int(raw.colorspace), 2 if is_full_range(raw) else int(raw.color_range)
    if raw.format.is_rgb:
        matrix, range_ = int(Colorspace.ITU709), 1
    tags = Tags(int(raw.color_primaries), int(raw.color_trc), matrix, range_)
    turns, time = quarter_turns(raw), None if raw.pts is None else Fraction(raw.pts) * Fraction(raw.time_base)
    if raw.format.name not in PLANAR_FORMATS:
        raw = _as_planes(raw)
    depth = raw.format.components[0].bits
    planes = tuple(_plane(plane, depth) for plane in raw.planes)
    return Stored(planes[:3], depth, time, tags, turns, planes[3] if len(planes) > 3 else None)


def _as_planes(raw: av.video.frame.VideoFrame) -> av.video.frame.VideoFrame:
    """A frame of another kind of format as planes; R G B becomes BT.709's Y, U, V of limited range."""
    wanted = nearest_planar(raw.format)
    if not raw.format.is_rgb:
        return raw.reformat(format=wanted)
    return raw.reformat(
        format=wanted,
        dst_colorspace=Colorspace.ITU709,
        src_color_range=ColorRange.JPEG,
        dst_color_range=ColorRange.MPEG,
    )


def nearest_planar(stored: av.video.format.VideoFormat) -> str:
    """The planes that a format of any other kind (packed, R G B, palette) is brought to, losing no depth."""
    bits = max(component.bits for component in stored.components)
    clear = has_alpha(stored)
    depth = next(name for name, limit in (("", 8), ("10le", 10), ("12le", 12), ("16le", 64)) if bits <= limit)
    return ("yuva" if clear else "yuv") + "444p" + depth


def has_alpha(stored: av.video.format.VideoFormat) -> bool:
    """Whether a pixel format has a plane or component of coverage."""
    return any(component.is_alpha for component in stored.components)


def _plane(plane: Any, depth: int) -> Plane:
    kind = np.dtype(np.uint8 if depth == 8 else np.uint16)
    rows: Plane = np.frombuffer(plane, kind).reshape(plane.height, plane.line_size // kind.itemsize)
    return rows[:, : plane.width]
