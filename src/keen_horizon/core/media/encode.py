"""Frames to a file: any delivered codec in a fitting container, times, tags, depth and pixel shape kept.

The file is written beside its destination and renamed when complete, so a half-written file never has
the final name.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import av.error
import av.video.frame
import numpy as np

from keen_horizon.core.errors import EncodeError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.formats import CONTAINERS, VIDEO_FORMATS
from keen_horizon.core.media.frames import Plane, Tags
from keen_horizon.core.media.sound import sound_track


@dataclass(frozen=True)
class EncodeSettings:
    """How a file is written. `quality` is the codec's constant rate factor: lower is better and larger."""

    size: Size
    bit_depth: int
    chroma: str
    rate: Fraction
    time_base: Fraction
    pixel_aspect: Fraction = Fraction(1)
    codec: str = "h264"
    container: str = "mp4"
    quality: int = 18
    preset: str | None = None
    tags: Tags | None = None
    threads: int = 0
    keyframe_interval: int | None = None

    @property
    def pixel_format(self) -> str:
        """FFmpeg's name for the planes that are written."""
        return f"yuv{self.chroma}p" + ("" if self.bit_depth == 8 else "10le")


@dataclass(frozen=True)
class SoundRange:
    """The sound of a file between two moments on its own clock; `whole` when that is all of it."""

    path: Path
    start: float
    end: float
    whole: bool


def chroma_size(size: Size, chroma: str) -> Size:
    """Size of a chroma plane for "420", "422" or "444"; rounded up, as every decoder does."""
    width = -(-size.width // 2) if chroma in ("420", "422") else size.width
    height = -(-size.height // 2) if chroma == "420" else size.height
    return Size(width, height)


class Writer(Protocol):
    """Takes planes at given times."""

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Take one frame shown at `time` seconds."""


class VideoWriter:
    """Writes planes at given times into one open file. Made by `write_video`."""

    def __init__(self, container: Any, settings: EncodeSettings, sound: Any = None) -> None:
        self._container = container
        self._sound = sound
        self.settings = settings
        format_ = VIDEO_FORMATS[settings.codec]
        self._stream = container.add_stream(format_.encoder, rate=settings.rate)
        context = self._stream.codec_context
        context.width, context.height = settings.size.width, settings.size.height
        context.pix_fmt = settings.pixel_format
        context.time_base = settings.time_base
        context.sample_aspect_ratio = settings.pixel_aspect
        context.thread_count = settings.threads
        context.options = format_.options(settings.quality)
        if settings.preset:
            context.options |= {"preset": settings.preset}
        if format_.tag and settings.container in ("mp4", "mov"):
            context.codec_tag = format_.tag
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
        frame = picture_frame(planes, self.settings)
        frame.time_base = self.settings.time_base
        frame.pts = round(time / self.settings.time_base)
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def finish(self) -> None:
        """Flush the encoder."""
        for packet in self._stream.encode(None):
            self._container.mux(packet)
        if self._sound:
            self._sound.finish()


def picture_frame(planes: tuple[Plane, ...], settings: EncodeSettings) -> av.video.frame.VideoFrame:
    """Planes as a frame of the settings' pixel format."""
    frame = av.video.frame.VideoFrame(settings.size.width, settings.size.height, settings.pixel_format)
    for target, plane in zip(frame.planes, planes, strict=True):
        _fill(target, plane)
    if settings.tags is not None:  # some codecs write the tags of the frame, not those of the stream
        frame.color_primaries, frame.color_trc = settings.tags.primaries, settings.tags.transfer
        frame.colorspace, frame.color_range = settings.tags.matrix, settings.tags.range
    return frame


@contextmanager
def write_video(path: Path, settings: EncodeSettings, sound: SoundRange | None = None) -> Iterator[VideoWriter]:
    """Open `path` for writing; on success the file appears whole, on failure not at all.

    Raises EncodeError with the reason: a full disk, an impossible size.
    """
    partial = path.with_name(path.name + ".part")
    # The index of an MP4 goes to the front, so that playing needs no search.
    options = {"movflags": "+faststart"} if settings.container in ("mp4", "mov") else {}
    with whole_or_nothing(path, partial), av.open(
        str(partial), "w", format=CONTAINERS[settings.container], options=options
    ) as container:  # fmt: skip
        track = None
        if sound:
            track = sound_track(container, settings.container, sound.path, sound.start, sound.end, sound.whole)
        try:
            writer = VideoWriter(container, settings, track)
            yield writer
            writer.finish()
        finally:
            if track:
                track.close()


@contextmanager
def whole_or_nothing(path: Path, partial: Path) -> Iterator[None]:
    """Give a finished `partial` file its final name; remove it on failure. Raises EncodeError."""
    try:
        yield
        partial.replace(path)
    except np.linalg.LinAlgError:
        raise  # a ValueError that has nothing to do with writing
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
