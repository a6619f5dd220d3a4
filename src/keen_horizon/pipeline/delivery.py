"""How a pipeline's pictures go to a file: format, depth, sound and the writer, kept as the source has them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.along import Fate, delivery, fates, sound_way
from keen_horizon.core.media.encode import Along, EncodeSettings, write_video
from keen_horizon.core.media.formats import SEQUENCES
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.probe import ClipInfo, with_carried
from keen_horizon.core.media.recoding import recoded, written_tags
from keen_horizon.core.media.sequence import write_sequence
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.output import Output

FIRST_ORDER = 4  # channels of first-order ambisonic sound


def encode_settings(
    frame: Frame,
    info: ClipInfo,
    output: Output,
    size: Size,
    chroma: str,
    depth: int,
    pixel_aspect: Fraction,
    *,
    alpha: bool,
) -> EncodeSettings:
    """Settings for pictures of `size` with a chroma layout and depth, tagged and timed as the source."""
    return EncodeSettings(
        size=size,
        bit_depth=frame.bit_depth if output.codec in SEQUENCES else depth,
        picture_bits=16 if output.codec == "tiff" else depth,
        chroma=chroma,
        rate=Fraction(info.rate).limit_denominator(1001),
        time_base=info.time_base,
        pixel_aspect=pixel_aspect,
        codec=output.codec,
        container=output.container,
        quality=output.quality,
        tags=written_tags(frame.tags, output.codec),
        alpha=alpha,
        bit_rate=output.bit_rate_kbps and 1000 * output.bit_rate_kbps,
        profile=output.profile,
        light=info.carried.light,
    )


def taken_along(
    source: Path, info: ClipInfo, treatment: Treatment, origin: float, times: NDArray[np.float64]
) -> Along | None:
    """What goes along with the treated range, which begins at `origin` on the file's clock; pictures take nothing."""
    output = treatment.output
    if output.codec in SEQUENCES:
        return None
    info = with_carried(info, source)
    first, last = treatment.frames(info.frames)
    end = float(times[last + 1]) if last + 1 < len(times) else float(times[last]) + info.duration / info.frames
    with_sound = output.sound != "none"
    what = delivery(
        info,
        output.container,
        sound=with_sound,
        first=first,
        whole=is_whole(info, treatment),
        note=f"Keen Horizon: {done_to(treatment)}",
    )
    return Along(path=source, start=origin, end=end, carried=info.carried, delivery=what)


def is_whole(info: ClipInfo, treatment: Treatment) -> bool:
    """Whether the treatment's range is the whole clip."""
    return treatment.frames(info.frames) == (0, info.frames - 1)


def clip_fates(info: ClipInfo, treatment: Treatment) -> tuple[Fate, ...]:
    """What becomes of everything that the clip carries when it is delivered so."""
    output = treatment.output
    carried = fates(
        info,
        codec=output.codec,
        container=output.container,
        sound=output.sound != "none",
        whole=is_whole(info, treatment),
        clear=treatment.edges.clear_gaps,
    )
    return carried if info.camera == "frame" else (*carried, *_of_sphere(info, treatment))


def _of_sphere(info: ClipInfo, treatment: Treatment) -> Iterator[Fate]:
    """What becomes of what players are told of a sphere, and of sound from all around."""
    view, output = treatment.view, treatment.output
    if view is not None and view.output != "sphere":
        yield Fate("that it shows all around", "changed", "a view is a frame")
    elif output.codec in SEQUENCES:
        yield Fate("that it shows all around", "lost", "pictures have no place for it")
    else:
        yield Fate("that it shows all around", "kept")
    if output.sound != "none" and output.codec not in SEQUENCES:
        whole = is_whole(info, treatment)
        heard = [sound for sound in info.carried.sounds if sound_way(sound, output.container, whole) is not None]
        if any(sound.channels >= FIRST_ORDER for sound in heard):
            yield Fate("sound from all around", "changed", "if it is ambisonic: not turned along with the picture")


def done_to(treatment: Treatment) -> str:
    """What a treatment does, in a few words."""
    intent, optics, edges = treatment.motion.intent, treatment.optics, treatment.edges.way
    if treatment.view is not None:
        return ", ".join([*([f"steadied ({intent})"] if intent else []), f"view: {treatment.view.output}"])
    parts = [f"steadied ({intent})" if intent else "", "lens corrected" if optics.lens else "", f"edges: {edges}"]
    return ", ".join(part for part in parts if part)


def open_writer(
    path: Path, settings: EncodeSettings, along: Along | None, info: ClipInfo, first: int, stem: str | None = None
) -> AbstractContextManager[Any]:
    """The writer for a codec's kind of file; numbered pictures start with `first`, called as the file, or `stem`."""
    if settings.codec in SEQUENCES:
        return write_sequence(path, settings, first, info.timecode, stem)
    return write_video(path, settings, along)


def as_written(planes: tuple[Plane, ...], frame: Frame, settings: EncodeSettings) -> tuple[Plane, ...]:
    """Planes in a frame's codes, in those that are written."""
    return recoded(
        planes,
        depth=frame.bit_depth,
        tags=frame.tags,
        wanted_depth=settings.bit_depth,
        wanted_tags=settings.tags,
    )
