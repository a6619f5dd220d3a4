"""Frames to a file: H.264 in MP4, times, tags, depth and pixel shape kept, sound carried along.

The file is written beside its destination and renamed when complete, so a half-written file never has
the final name. Sound packets are copied untouched where MP4 can hold their codec and encoded to AAC
otherwise; a range keeps the packets that start inside it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error
import av.video.frame
import numpy as np

from keen_horizon.core.errors import EncodeError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.frames import Plane, Tags

COPIED_SOUND = {"aac", "mp3", "ac3", "eac3", "alac", "opus", "flac"}


@dataclass(frozen=True)
class EncodeSettings:
    """How a file is written. `quality` is x264's constant rate factor: lower is better and larger."""

    size: Size
    bit_depth: int
    chroma: str
    rate: Fraction
    time_base: Fraction
    pixel_aspect: Fraction = Fraction(1)
    quality: int = 18
    preset: str = "veryfast"
    tags: Tags | None = None
    threads: int = 0
    keyframe_interval: int | None = None

    @property
    def pixel_format(self) -> str:
        """FFmpeg's name for the planes that are written."""
        return f"yuv{self.chroma}p" + ("" if self.bit_depth == 8 else "10le")

    @property
    def plane_sizes(self) -> tuple[Size, Size, Size]:
        """Sizes of Y, U and V; chroma is rounded up, as every decoder does."""
        chroma = chroma_size(self.size, self.chroma)
        return self.size, chroma, chroma


def chroma_size(size: Size, chroma: str) -> Size:
    """Size of a chroma plane for "420", "422" or "444"."""
    width = -(-size.width // 2) if chroma in ("420", "422") else size.width
    height = -(-size.height // 2) if chroma == "420" else size.height
    return Size(width, height)


class VideoWriter:
    """Writes planes at given times into one open file. Made by `write_video`."""

    def __init__(self, container: Any, settings: EncodeSettings, sound: _SoundCopy | None = None) -> None:
        self._container = container
        self._sound = sound
        self.settings = settings
        self._stream = container.add_stream("libx264", rate=settings.rate)
        context = self._stream.codec_context
        context.width, context.height = settings.size.width, settings.size.height
        context.pix_fmt = settings.pixel_format
        context.time_base = settings.time_base
        context.sample_aspect_ratio = settings.pixel_aspect
        context.thread_count = settings.threads
        context.options = {"crf": str(settings.quality), "preset": settings.preset}
        if settings.keyframe_interval:
            context.gop_size = settings.keyframe_interval
            context.options |= {"bf": "0", "sc_threshold": "0"}
        if settings.tags is not None:
            context.color_primaries = settings.tags.primaries
            context.color_trc = settings.tags.transfer
            context.colorspace = settings.tags.matrix
            context.color_range = settings.tags.range

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Encode one frame shown at `time` seconds, and the sound up to there."""
        if self._sound:
            self._sound.advance(float(time) + 0.5)
        frame = av.video.frame.VideoFrame(
            self.settings.size.width, self.settings.size.height, self.settings.pixel_format
        )
        for target, plane in zip(frame.planes, planes, strict=True):
            _fill(target, plane)
        frame.time_base = self.settings.time_base
        frame.pts = round(time / self.settings.time_base)
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def finish(self) -> None:
        """Flush the encoder."""
        for packet in self._stream.encode(None):
            self._container.mux(packet)


@contextmanager
def write_video(
    path: Path, settings: EncodeSettings, sound_from: Path | None = None, start: float = 0, end: float = 0
) -> Iterator[VideoWriter]:
    """Open `path` for writing; on success the file appears whole, on failure not at all.

    `sound_from` names the file whose sound between `start` and `end` (seconds on its own clock) goes
    along. Raises EncodeError with the reason: a full disk, an impossible size.
    """
    partial = path.with_name(path.name + ".part")
    try:
        # A fragment of the index is never needed to play the finished file: it goes to the front.
        with av.open(str(partial), "w", format="mp4", options={"movflags": "+faststart"}) as container:
            sound = _SoundCopy(container, sound_from, start, end) if sound_from else None
            try:
                writer = VideoWriter(container, settings, sound)
                yield writer
                writer.finish()
                if sound:
                    sound.advance(end - start)
                    sound.finish()
            finally:
                if sound:
                    sound.close()
        partial.replace(path)
    except (av.error.FFmpegError, OSError, ValueError) as error:
        raise EncodeError(f"{path.name}: the file could not be written ({_reason(error)}).") from error
    finally:
        partial.unlink(missing_ok=True)


def _fill(target: Any, plane: Plane) -> None:
    height, width = plane.shape
    item = plane.dtype.itemsize
    rows = np.frombuffer(target, plane.dtype).reshape(target.height, target.line_size // item)
    rows[:height, :width] = plane


def _reason(error: Exception) -> str:
    text = getattr(error, "strerror", None) or str(error)
    if "No space left" in text:
        return "the disk is full; free some space and render again, nothing else was changed"
    return str(text)


class _SoundCopy:
    """Carries one sound stream from a file into an open container, a little ahead of the pictures."""

    def __init__(self, container: Any, path: Path, start: float, end: float) -> None:
        self._source = open_input(path)
        self._out = container
        self._start, self._end = start, end
        self._copied = True
        self._packets: Iterator[Any] = iter(())
        self._waiting: Any = None
        if not self._source.streams.audio:
            return
        stream = self._source.streams.audio[0]
        self._copied = stream.codec_context.name in COPIED_SOUND
        if self._copied:
            self._stream = container.add_stream_from_template(stream)
        else:
            self._stream = container.add_stream("aac", rate=stream.codec_context.sample_rate)
            self._stream.codec_context.layout = stream.codec_context.layout
        if start > 1:
            self._source.seek(int((start - 1) * 1_000_000), backward=True)
        self._packets = self._in_range(stream)

    def advance(self, until: float) -> None:
        """Write the packets that begin before `until`, seconds from the start of the output."""
        while True:
            packet = self._waiting or next(self._packets, None)
            self._waiting = packet
            if packet is None or float(packet.pts * packet.time_base) - self._start >= until:
                return
            self._waiting = None
            if self._copied:
                self._copy(packet)
            else:
                self._encode(packet.decode())

    def finish(self) -> None:
        """Flush the encoder, where there is one."""
        if not self._copied:
            self._out.mux(self._stream.encode(None))

    def close(self) -> None:
        """Close the file that the sound comes from."""
        self._source.close()

    def _in_range(self, stream: Any) -> Iterator[Any]:
        """Packets that begin in the range; those that prime the decoder at the file's start go with it."""
        for packet in self._source.demux(stream):
            if packet.pts is None or packet.size == 0:
                continue
            begins = float(packet.pts * packet.time_base)
            if begins >= self._end:
                return
            primes = packet.pts <= 0 and self._start <= 0.1
            if begins >= self._start or primes:
                yield packet

    def _copy(self, packet: Any) -> None:
        shift = round(Fraction(self._start) / packet.time_base)
        packet.pts -= shift
        if packet.dts is not None:
            packet.dts -= shift
        packet.stream = self._stream
        self._out.mux(packet)

    def _encode(self, frames: list[Any]) -> None:
        for frame in frames:
            frame.pts = None
            self._out.mux(self._stream.encode(frame))
