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
from keen_horizon.core.media.along import EDIT_LISTS, Delivery
from keen_horizon.core.media.carried import Carried, Light
from keen_horizon.core.media.chroma import NAMES
from keen_horizon.core.media.containers import open_input
from keen_horizon.core.media.formats import CONTAINERS, VIDEO_FORMATS
from keen_horizon.core.media.hdr import light_options
from keen_horizon.core.media.sound import Track, sound_track
from keen_horizon.core.media.spherical_tags import tag_sphere
from keen_horizon.core.media.stored import Plane, Tags
from keen_horizon.core.media.subtitles import subtitle_track

FEW = 2  # frames, of which none is reordered; of so few, libx265 tells decoding times that are never set


@dataclass(frozen=True)
class EncodeSettings:
    """How a file is written. `picture_bits` are those of numbered pictures, which planes of `bit_depth` become.

    `quality` is the codec's constant rate factor: lower is better and larger. Players are told of a `sphere`.
    """

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
    alpha: bool = False
    bit_rate: int | None = None
    profile: str | None = None
    light: Light | None = None
    picture_bits: int = 16
    sphere: bool = False

    @property
    def pixel_format(self) -> str:
        """FFmpeg's name for the planes that are written."""
        return f"yuv{'a' if self.alpha else ''}{self.chroma}p" + ("" if self.bit_depth == 8 else f"{self.bit_depth}le")


@dataclass(frozen=True, kw_only=True)
class Along:
    """What goes along from a file: `carried` is all it has, `delivery` what is done with it, between two moments on
    the file's own clock.
    """

    path: Path
    start: float
    end: float
    carried: Carried
    delivery: Delivery


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

    def __init__(self, container: Any, settings: EncodeSettings) -> None:
        self._container = container
        self._count = 0  # of frames written
        self.tracks: list[Track] = []
        self.settings = settings
        format_ = VIDEO_FORMATS[settings.codec]
        self._stream = container.add_stream(format_.encoder, rate=settings.rate)
        context = self._stream.codec_context
        context.width, context.height = settings.size.width, settings.size.height
        context.pix_fmt = settings.pixel_format
        context.time_base = settings.time_base
        context.sample_aspect_ratio = settings.pixel_aspect
        context.thread_count = settings.threads
        context.options = encoder_options(settings)
        if settings.bit_rate:
            context.bit_rate = settings.bit_rate
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
            site = NAMES[format_.written(settings.chroma, settings.container).site(settings.tags.site)]
            if site and settings.chroma == "420":
                context.options |= {"chroma_sample_location": site}

    @property
    def stream(self) -> Any:
        """The stream of pictures."""
        return self._stream

    def write(self, planes: tuple[Plane, ...], time: Fraction) -> None:
        """Encode one frame shown at `time` seconds, and the sound up to there."""
        for track in self.tracks:
            track.advance(float(time) + 0.5)
        frame = picture_frame(planes, self.settings)
        frame.time_base = self.settings.time_base
        frame.pts = round(time / self.settings.time_base)
        self._count += 1
        for packet in self._stream.encode(frame):
            self._container.mux(packet)

    def finish(self) -> None:
        """Flush the encoder."""
        for packet in self._stream.encode(None):
            if self._count <= FEW:
                packet.dts = packet.pts
            self._container.mux(packet)
        for track in self.tracks:
            track.finish()


def encoder_options(settings: EncodeSettings) -> dict[str, str]:
    """What an encoder is told: a constant quality, or a bit rate, and what its stream says of the pictures."""
    options = VIDEO_FORMATS[settings.codec].options(settings.quality)
    if settings.bit_rate:
        options.pop("crf", None)
    if settings.codec == "prores":
        options["profile"] = settings.profile or ("4444" if settings.chroma == "444" else "hq")
    for name, value in light_options(settings.codec, settings.light).items():
        options[name] = ":".join(part for part in (options.get(name), value) if part)
    if settings.codec == "vp9" and settings.alpha:
        options["auto-alt-ref"] = "0"  # its encoder cannot look ahead with coverage
    return options


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
def write_video(path: Path, settings: EncodeSettings, along: Along | None = None) -> Iterator[VideoWriter]:
    """Open `path` for writing; on success the file appears whole, on failure not at all.

    Raises EncodeError with the reason: a full disk, an impossible size.
    """
    partial = path.with_name(path.name + ".part")
    # The index of an MP4 goes to the front, so that playing needs no search.
    # Tags of any name are kept as open key and value pairs there (ISO/IEC 14496-12, "mdta").
    # That of a sphere stays last, where it can grow by what marks it.
    front = "" if settings.sphere else "+faststart"
    options = {"movflags": f"{front}+use_metadata_tags"} if settings.container in EDIT_LISTS else {}
    with whole_or_nothing(path, partial):
        with av.open(str(partial), "w", format=CONTAINERS[settings.container], options=options) as container:
            writer = VideoWriter(container, settings)
            try:
                if along:
                    _take_along(container, settings, along, writer)
                yield writer
                writer.finish()
            finally:
                for track in writer.tracks:
                    track.close()
        if settings.sphere:
            tag_sphere(partial, settings.container)


def _take_along(container: Any, settings: EncodeSettings, along: Along, writer: VideoWriter) -> None:
    """Open the tracks that go along and write tags, timecode and chapters."""
    carried, delivery, handlers = along.carried, along.delivery, settings.container in EDIT_LISTS
    start, end = along.start, along.end
    for number, (sound, way) in enumerate(zip(carried.sounds, delivery.sounds, strict=True)):
        if way:
            writer.tracks.append(
                sound_track(container, along.path, number, sound, way=way, start=start, end=end, handlers=handlers)
            )
    for number, (subtitle, way) in enumerate(zip(carried.subtitles, delivery.subtitles, strict=True)):
        if way:
            writer.tracks.append(
                subtitle_track(container, along.path, number, subtitle, start=start, end=end, handlers=handlers)
            )
    tags = dict(delivery.tags)
    reel = tags.pop("reel", None)
    if reel:
        tags["reel_name"] = writer.stream.metadata["reel_name"] = reel
    if "creation_time" in tags:
        writer.stream.metadata["creation_time"] = tags["creation_time"]
    if delivery.timecode:
        writer.stream.metadata["timecode"] = delivery.timecode
        if not handlers:
            tags["TIMECODE"] = delivery.timecode
    container.metadata.update(tags)
    if delivery.chapters:
        container.set_chapters(chapters_of(along.path, along.start, along.end))


def chapters_of(path: Path, start: float, end: float) -> list[Any]:
    """A file's chapters that reach between two moments on its clock, on the output's clock, ms."""
    with open_input(path) as source:
        chapters = source.chapters()
    kept: list[Any] = []
    for chapter in chapters:
        begins, ends = (float(chapter[side] * chapter["time_base"]) for side in ("start", "end"))
        if ends <= start or begins >= end:
            continue
        inside = [round(1000 * (min(max(moment, start), end) - start)) for moment in (begins, ends)]
        kept.append(
            {
                "id": len(kept) + 1, "start": inside[0], "end": inside[1], "time_base": Fraction(1, 1000),
                "metadata": dict(chapter["metadata"]),
            }
        )  # fmt: skip
    return kept


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
