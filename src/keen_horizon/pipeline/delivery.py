"""How a pipeline's pictures go to a file: format, depth, sound and the writer, kept as the source has them."""

from __future__ import annotations

from contextlib import AbstractContextManager
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.encode import EncodeSettings, SoundRange, write_video
from keen_horizon.core.media.formats import SEQUENCES, VIDEO_FORMATS
from keen_horizon.core.media.frames import Frame, Plane
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.sequence import write_sequence
from keen_horizon.core.treatment.deliver import Deliver


def pixels_of(frame: Frame, info: ClipInfo, deliver: Deliver) -> tuple[str, int]:
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


def encode_settings(
    frame: Frame, info: ClipInfo, deliver: Deliver, size: Size, chroma: str, depth: int, pixel_aspect: Fraction
) -> EncodeSettings:
    """Settings for pictures of `size` with a chroma layout and depth, tagged and timed as the source."""
    return EncodeSettings(
        size=size,
        bit_depth=depth,
        chroma=chroma,
        rate=Fraction(info.rate).limit_denominator(1001),
        time_base=info.time_base,
        pixel_aspect=pixel_aspect,
        codec=deliver.codec,
        container=deliver.container,
        quality=deliver.quality,
        tags=frame.tags,
    )


def sound_range(
    source: Path,
    info: ClipInfo,
    deliver: Deliver,
    origin: float,
    first: int,
    last: int,
    times: NDArray[np.float64],
) -> SoundRange | None:
    """The sound of frames `first` ... `last`, where the delivered file is to have some."""
    if deliver.sound == "none" or deliver.codec in SEQUENCES or not info.sound:
        return None
    end = float(times[last + 1]) if last + 1 < len(times) else float(times[last]) + info.duration / info.frames
    whole = first == 0 and last == info.frames - 1
    return SoundRange(source, origin, end, whole)


def open_writer(
    path: Path, settings: EncodeSettings, sound: SoundRange | None, first: int
) -> AbstractContextManager[Any]:
    """The writer for a codec's kind of file; numbered pictures start with `first`."""
    if settings.codec in SEQUENCES:
        return write_sequence(path, settings, first)
    return write_video(path, settings, sound)


def at_depth(planes: tuple[Plane, ...], depth: int, wanted: int) -> tuple[Plane, ...]:
    """Planes brought from one bit depth to another."""
    if depth == wanted:
        return planes
    if depth > wanted:
        return tuple(_narrowed(plane >> (depth - wanted), wanted) for plane in planes)
    return tuple(plane.astype(np.uint16) << (wanted - depth) for plane in planes)


def _narrowed(plane: Plane, depth: int) -> Plane:
    return plane.astype(np.uint8) if depth == 8 else plane
