"""Lay straight-rendered graphics over a range of a clip, bent as its lens bends; all other pixels stay untouched."""

from __future__ import annotations

import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.lens.plate import plates_of
from keen_horizon.core.media.along import keeps_alpha, kept_pixels
from keen_horizon.core.media.chroma import steps_between
from keen_horizon.core.media.encode import chroma_size
from keen_horizon.core.media.formats import written_chroma
from keen_horizon.core.media.frames import Frame, gapless, read_frames
from keen_horizon.core.media.layers import read_layers
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.recoding import written_tags
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.render.overlay import Layover
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import as_written, encode_settings, open_writer, taken_along
from keen_horizon.pipeline.rendering import RenderFacts
from keen_horizon.pipeline.streams import Behind, ahead


def overlay_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    treatment: Treatment,
    graphics: Path,
    name: str,
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    stem: str | None = None,
) -> RenderFacts:
    """Write the range with the graphics `name` over it. Where they end, the clip goes on alone. Numbered pictures are
    called as the file, or `stem`.

    Raises LensError without a lens, MediaError, EncodeError, Stopped.
    """
    began = time.perf_counter()
    first, last = treatment.frames(info.frames)
    layover = Layover(plates_of(treatment, info.display, info.name, (first, last)), info.coded)
    layers = read_layers(graphics, name)
    total = last - first + 1
    frames = ahead(gapless(read_frames(info.footage(source), first, last, times), first, times, last))
    opening = next(frames)
    chroma, depth = _own_pixels(opening, info, treatment)
    alpha = keeps_alpha(info, treatment.output.codec)
    size = Size(info.coded.width // 2 * 2, info.coded.height // 2 * 2)
    settings = encode_settings(opening, info, treatment.output, size, chroma, depth, info.pixel_aspect, alpha=alpha)
    origin = Fraction(opening.time)
    along = taken_along(source, info, treatment, float(origin), times)
    done = 0
    stood_in: list[int] = []
    frame: Frame | None = opening
    with open_writer(destination, settings, along, info, first, stem) as writer, Behind() as encoder:
        while frame is not None:
            if should_stop():
                raise Stopped(f"{info.name}: laying the graphics over it was stopped.")
            picture = next(layers, None)
            planes = frame.planes if picture is None else layover.lay_over(frame, picture, name)
            planes = _cropped(planes, size, chroma)
            if settings.alpha:
                planes = (*planes, frame.coverage[: size.height, : size.width])
            encoder.call(writer.write, as_written(planes, frame, settings), frame.time - origin)
            done += 1
            if frame.repeated:
                stood_in.append(frame.number)
            progress(done, total)
            frame = next(frames, None)
    return RenderFacts(
        frames=done,
        gap_pixels=0,
        seconds=time.perf_counter() - began,
        width=size.width,
        height=size.height,
        codec=treatment.output.codec,
        pix_fmt=settings.pixel_format,
        stood_in=tuple(stood_in),
    )


def _own_pixels(frame: Frame, info: ClipInfo, treatment: Treatment) -> tuple[str, int]:
    """The source's own chroma layout and depth. Raises MediaError where the codec would change them."""
    steps = steps_between(frame.planes[0].shape, frame.planes[1].shape)
    own = {(1, 1): "444", (2, 1): "422", (2, 2): "420"}.get(steps, "440")
    codec, container = treatment.output.codec, treatment.output.container
    layout, depth = kept_pixels(info, codec)
    same_codes = written_tags(frame.tags, codec) == frame.tags
    same_places = written_chroma(codec, layout, container).keeps(frame.tags.site)
    if layout != own or depth < frame.bit_depth or not same_codes or not same_places:
        raise MediaError(
            f"{info.name}: {codec} in {container} would change its {own[0]}:{own[1]}:{own[2]}, "
            f"{frame.bit_depth}-bit pixels. Deliver as H.264 or H.265."
        )
    return layout, depth


def _cropped(planes: tuple[Plane, ...], size: Size, chroma: str) -> tuple[Plane, ...]:
    sizes = (size, chroma_size(size, chroma), chroma_size(size, chroma))
    return tuple(plane[: s.height, : s.width] for plane, s in zip(planes, sizes, strict=True))
