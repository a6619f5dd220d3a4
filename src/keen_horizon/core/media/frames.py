"""Decoding: a stream of upright frames as planes at native depth, in presentation order.

A frame number is the position in presentation order, 0-based, and agrees with `probe`'s times: the
reader starts at a frame by seeking to the key frame before its time and discarding up to it. Frames
are yielded one by one; nothing is kept.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av.container
import av.error
import av.video.frame
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, UnreadableVideoError
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.orientation import quarter_turns, upright

Plane = NDArray[np.uint8 | np.uint16]

PLANAR_FORMATS = {base + suffix for base in ("yuv420p", "yuv422p", "yuv444p") for suffix in ("", "10le", "12le")} | {
    "yuvj420p",
    "yuvj422p",
    "yuvj444p",
}


@dataclass(frozen=True)
class Tags:
    """Colour tags as the standards number them (ITU-T H.273), with the range (1 limited, 2 full)."""

    primaries: int
    transfer: int
    matrix: int
    range: int


@dataclass(frozen=True)
class Frame:
    """One upright picture: planes Y, U, V (rows, columns), chroma at its own size, native depth.

    `time` is exact, in seconds on the file's own clock. A `repeated` picture stands in for a damaged one.
    """

    number: int
    time: Fraction
    planes: tuple[Plane, ...]
    bit_depth: int
    tags: Tags
    repeated: bool = False

    @property
    def luma(self) -> Plane:
        """The Y plane."""
        return self.planes[0]

    def luma8(self) -> NDArray[np.uint8]:
        """The Y plane at 8 bits, for analysis."""
        if self.bit_depth == 8:
            return np.asarray(self.luma, np.uint8)
        return (self.luma >> (self.bit_depth - 8)).astype(np.uint8)


def read_frames(
    path: Path, first: int = 0, last: int | None = None, times: NDArray[np.float64] | None = None
) -> Iterator[Frame]:
    """Yield frames `first` ... `last` (inclusive; None: to the end).

    `times` (N,) from `probe` numbers the frames by their times and lets a reader that starts late seek
    instead of decoding from the start. A file that breaks off ends the stream early. Raises
    UnreadableVideoError when not one frame comes, MediaError when the picture's size changes.
    """
    yielded = 0
    with open_input(path) as container:
        stream = container.streams.video[0]
        stream.thread_type = "AUTO"
        timed = times is not None and container.format.name != "avi"
        if timed and times is not None and first >= 8:
            container.seek(int(times[first - 1] / float(stream.time_base)), stream=stream, backward=True)
        size: tuple[int, int] | None = None
        for count, raw in enumerate(_decoded(container, stream)):
            number = count
            size = size or (raw.width, raw.height)
            if (raw.width, raw.height) != size:
                raise _other_size(path, size, raw)
            if timed and times is not None:
                number = int(np.abs(times - float(raw.time)).argmin())
            if last is not None and number > last:
                break
            if number >= first:
                yielded += 1
                yield _frame(raw, number, stream.time_base)
    if not yielded:
        raise UnreadableVideoError(
            f"{path.name}: frame {first} could not be decoded. The file is damaged there; "
            "move the in point or copy the file again."
        )


def _other_size(path: Path, size: tuple[int, int], raw: av.video.frame.VideoFrame) -> MediaError:
    return MediaError(
        f"{path.name}: its picture changes from {size[0]}×{size[1]} to {raw.width}×{raw.height} pixels at "
        f"{float(raw.time or 0):.2f} s. Split the file there, or export it in one size."
    )


def gapless(frames: Iterator[Frame], first: int, times: NDArray[np.float64]) -> Iterator[Frame]:
    """Every frame number from `first` once: a picture that could not be decoded repeats its neighbour."""
    expected = first
    previous: Frame | None = None
    for frame in frames:
        if frame.number < expected:
            continue
        for number in range(expected, frame.number):
            moment = Fraction(float(times[number])).limit_denominator(1_000_000)
            yield replace(previous or frame, number=number, time=moment, repeated=True)
        yield frame
        previous, expected = frame, frame.number + 1


def read_frame(path: Path, number: int, times: NDArray[np.float64] | None = None) -> Frame:
    """One exact frame."""
    return next(read_frames(path, number, number, times))


def _decoded(container: Any, stream: Any) -> Iterator[av.video.frame.VideoFrame]:
    packets = container.demux(stream)
    while True:
        try:
            packet = next(packets, None)
        except av.error.FFmpegError:
            packet = None  # the file breaks off here: what was decoded so far is flushed below
        try:
            yield from packet.decode() if packet is not None else stream.decode(None)
        except av.error.FFmpegError:
            if packet is not None:
                continue  # one damaged picture is passed over
        if packet is None or packet.size == 0:
            return


def _frame(raw: av.video.frame.VideoFrame, number: int, time_base: Fraction) -> Frame:
    turns = quarter_turns(raw)
    if raw.format.name not in PLANAR_FORMATS:
        deep = raw.format.components[0].bits > 8
        raw = raw.reformat(format="yuv444p10le" if deep else "yuv444p")
    depth = raw.format.components[0].bits
    planes = tuple(upright(_plane(plane, depth), turns) for plane in raw.planes)
    full = raw.format.name.startswith("yuvj")
    tags = Tags(
        int(raw.color_primaries),
        int(raw.color_trc),
        int(raw.colorspace),
        2 if full else int(raw.color_range),
    )
    return Frame(number, (raw.pts or 0) * time_base, planes, depth, tags)


def _plane(plane: Any, depth: int) -> Plane:
    kind = np.dtype(np.uint8 if depth == 8 else np.uint16)
    rows: Plane = np.frombuffer(plane, kind).reshape(plane.height, plane.line_size // kind.itemsize)
    return rows[:, : plane.width]
