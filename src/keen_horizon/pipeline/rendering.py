"""Render a treated range of a clip to a file: decode, warp once, encode, at the same time.

A comparison renders two treatments of the same frames into one picture, side by side or parted by a line.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.media.encode import EncodeSettings, SoundRange, write_video
from keen_horizon.core.media.formats import SEQUENCES, VIDEO_FORMATS
from keen_horizon.core.media.frames import Frame, Plane, gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.sequence import write_sequence
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.render.borrow import lending_frames
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment import Deliver, Treatment
from keen_horizon.pipeline.streams import Behind, ahead


@dataclass(frozen=True)
class RenderFacts:
    """What a render did: frames written, gap samples in all of them, seconds, and the file's format."""

    frames: int
    gap_pixels: int
    seconds: float
    width: int
    height: int
    codec: str
    pix_fmt: str

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


@dataclass(frozen=True)
class Versus:
    """What a render is compared with: another path with its treatment, and how both share the picture."""

    path: CameraPath
    treatment: Treatment
    comparison: Comparison


def render_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    path: CameraPath,
    treatment: Treatment,
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    versus: Versus | None = None,
) -> RenderFacts:
    """Write the treated range to `destination`. Raises Stopped, MediaError, EncodeError."""
    began = time.perf_counter()
    first, last = treatment.frames(info.frames)
    total = last - first + 1
    window = FrameWindow(ahead(gapless(read_frames(source, first, last, times), first, times)), _reach(path, versus))
    opening = window.opening()
    chroma, depth = _pixels(opening, info, treatment.deliver)
    warpers = [_warper(p, t, info, chroma) for p, t in _legs(path, treatment, versus)]
    settings = _settings(opening, info, treatment.deliver, warpers[-1], depth, versus)
    origin = Fraction(opening.time)
    sound = _sound(source, info, treatment.deliver, float(origin), first, last, times)
    gaps = done = 0
    with _writer(destination, settings, sound, first) as writer, Behind() as encoder:
        for frame in window:
            if should_stop():
                raise Stopped(f"{info.name}: the render was stopped.")
            warped = [warper.warp(frame, window.at) for warper in warpers]
            gaps += warped[-1].gap_pixels
            planes = versus.comparison.joined(*(w.planes for w in warped)) if versus else warped[-1].planes
            encoder.call(writer.write, _at_depth(planes, frame.bit_depth, settings.bit_depth), frame.time - origin)
            done += 1
            progress(done, total)
        if done < total:
            raise MediaError(
                f"{info.name}: only {done} of {total} frames could be decoded. "
                "Set the out point before the damage, or copy the file again."
            )
    return RenderFacts(
        frames=done,
        gap_pixels=gaps,
        seconds=time.perf_counter() - began,
        width=settings.size.width,
        height=settings.size.height,
        codec=treatment.deliver.codec,
        pix_fmt=settings.pixel_format,
    )


class FrameWindow:
    """Frames in order, with those up to `reach` before and after each at hand."""

    def __init__(self, frames: Iterator[Frame], reach: int) -> None:
        self._frames, self._reach = frames, reach
        self._kept: deque[Frame] = deque()

    def opening(self) -> Frame:
        """The first frame, which stays to be yielded."""
        self._kept.append(next(self._frames))
        return self._kept[0]

    def at(self, number: int) -> Frame | None:
        """A frame by number, where it is at hand."""
        index = number - self._kept[0].number
        return self._kept[index] if 0 <= index < len(self._kept) else None

    def __iter__(self) -> Iterator[Frame]:
        current = self._kept[0].number
        reach = min(self._reach, self._most() // 2)
        while True:
            while self._kept[-1].number < current + reach:
                following = next(self._frames, None)
                if following is None:
                    break
                self._kept.append(following)
            frame = self.at(current)
            if frame is None:
                return
            while self._kept[0].number < current - reach:
                self._kept.popleft()
            yield frame
            current += 1

    def _most(self) -> int:
        opening = self._kept[0]
        rows, columns = opening.planes[0].shape
        return lending_frames(Size(columns, rows), opening.bit_depth)


def _legs(path: CameraPath, treatment: Treatment, versus: Versus | None) -> list[tuple[CameraPath, Treatment]]:
    """What is compared with, if anything, and what is rendered."""
    return [*([(versus.path, versus.treatment)] if versus else []), (path, treatment)]


def _reach(path: CameraPath, versus: Versus | None) -> int:
    lenders = [p.borrowed for p in (path, versus.path if versus else None) if p and p.borrowed]
    return max((max(abs(offset) for offset in lender.offsets) for lender in lenders), default=0)


def _warper(path: CameraPath, treatment: Treatment, info: ClipInfo, chroma: str) -> Warper:
    output = output_frame(path, treatment.framing, info.coded, info.pixel_aspect)
    return Warper(path, info.coded, output, chroma, treatment)


def _pixels(frame: Frame, info: ClipInfo, deliver: Deliver) -> tuple[str, int]:
    """Chroma layout and depth of the output: the source's as far as the format takes them."""
    chroma = _chroma(frame, info.turns)
    if deliver.codec in SEQUENCES:
        return "444", 8 if frame.bit_depth == 8 else 10
    return VIDEO_FORMATS[deliver.codec].fitting(chroma, frame.bit_depth)


def _chroma(frame: Frame, turns: int) -> str:
    """The source's chroma layout, or 4:2:0 where turning upright made it an odd one."""
    luma, chroma = frame.planes[0].shape, frame.planes[1].shape
    if chroma == luma:
        return "444"
    if turns % 2 == 0 and chroma[0] == luma[0]:
        return "422"
    return "420"


def _settings(
    frame: Frame, info: ClipInfo, deliver: Deliver, warper: Warper, depth: int, versus: Versus | None
) -> EncodeSettings:
    size = versus.comparison.size(warper.output.size) if versus else warper.output.size
    return EncodeSettings(
        size=size,
        bit_depth=depth,
        chroma=warper.chroma,
        rate=Fraction(info.rate).limit_denominator(1001),
        time_base=info.time_base,
        pixel_aspect=warper.output.pixel_aspect,
        codec=deliver.codec,
        container=deliver.container,
        quality=deliver.quality,
        tags=frame.tags,
    )


def _sound(
    source: Path,
    info: ClipInfo,
    deliver: Deliver,
    origin: float,
    first: int,
    last: int,
    times: NDArray[np.float64],
) -> SoundRange | None:
    if deliver.sound == "none" or deliver.codec in SEQUENCES or not info.sound:
        return None
    end = float(times[last + 1]) if last + 1 < len(times) else float(times[last]) + info.duration / info.frames
    whole = first == 0 and last == info.frames - 1
    return SoundRange(source, origin, end, whole)


def _writer(path: Path, settings: EncodeSettings, sound: SoundRange | None, first: int) -> AbstractContextManager[Any]:
    if settings.codec in SEQUENCES:
        return write_sequence(path, settings, first)
    return write_video(path, settings, sound)


def _at_depth(planes: tuple[Plane, ...], depth: int, wanted: int) -> tuple[Plane, ...]:
    if depth == wanted:
        return planes
    if depth > wanted:
        return tuple(_narrowed(plane >> (depth - wanted), wanted) for plane in planes)
    return tuple(plane.astype(np.uint16) << (wanted - depth) for plane in planes)


def _narrowed(plane: Plane, depth: int) -> Plane:
    return plane.astype(np.uint8) if depth == 8 else plane


def as_shot(treatment: Treatment) -> Treatment:
    """The same range without any correction: what "before" means."""
    plain = Treatment()
    return plain.model_copy(
        update={
            "range": treatment.range,
            "motion": plain.motion.model_copy(update={"intent": None}),
            "deliver": treatment.deliver,
            "framing": plain.framing.model_copy(update={"size": treatment.framing.size}),
        }
    )
