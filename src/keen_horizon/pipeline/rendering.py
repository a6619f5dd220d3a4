"""Render a treated range of a clip to a file: decode, warp once, encode, at the same time."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, Stopped
from keen_horizon.core.mapping.output import output_frame
from keen_horizon.core.mapping.sampling import camera_map
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.frames import Frame, Plane, gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.path.solve import CameraPath
from keen_horizon.core.render.warp import Warper
from keen_horizon.core.treatment import Treatment
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


def render_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    path: CameraPath,
    treatment: Treatment,
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> RenderFacts:
    """Write the treated range to `destination`. Raises Stopped, MediaError, EncodeError."""
    began = time.perf_counter()
    first, last = treatment.frames(info.frames)
    total = last - first + 1
    frames = ahead(gapless(read_frames(source, first, last, times), first, times))
    opening = next(frames)
    output = output_frame(path, treatment.framing, info.coded, info.pixel_aspect)
    warper = Warper(camera_map(path), info.coded, output, _chroma(opening, info.turns), treatment.framing)
    settings = _settings(opening, info, treatment, warper)
    origin = Fraction(opening.time)
    end = float(times[last]) + info.duration / info.frames
    sound = source if treatment.deliver.sound == "copy" and info.sound else None
    gaps = done = 0
    with write_video(destination, settings, sound, float(origin), end) as writer, Behind() as encoder:
        frame: Frame | None = opening
        while frame is not None:
            if should_stop():
                raise Stopped(f"{info.name}: the render was stopped.")
            warped = warper.warp(frame)
            gaps += warped.gap_pixels
            planes = _at_depth(warped.planes, frame.bit_depth, settings.bit_depth)
            encoder.call(writer.write, planes, frame.time - origin)
            done += 1
            progress(done, total)
            frame = next(frames, None)
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


def _settings(frame: Frame, info: ClipInfo, treatment: Treatment, warper: Warper) -> EncodeSettings:
    return EncodeSettings(
        size=warper.output.size,
        bit_depth=8 if frame.bit_depth == 8 else 10,
        chroma=warper.chroma,
        rate=Fraction(info.rate).limit_denominator(1001),
        time_base=info.time_base,
        pixel_aspect=warper.output.pixel_aspect,
        quality=treatment.deliver.quality,
        tags=frame.tags,
    )


def _chroma(frame: Frame, turns: int) -> str:
    """The output's chroma layout: the source's, or 4:2:0 where turning upright made it an odd one."""
    luma, chroma = frame.planes[0].shape, frame.planes[1].shape
    if chroma == luma:
        return "444"
    if turns % 2 == 0 and chroma[0] == luma[0]:
        return "422"
    return "420"


def _at_depth(planes: tuple[Plane, ...], depth: int, wanted: int) -> tuple[Plane, ...]:
    if depth <= wanted:
        return planes
    return tuple(plane >> (depth - wanted) for plane in planes)
