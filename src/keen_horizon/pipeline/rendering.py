"""Render a treated range of a clip to a file: decode, warp once, encode, at the same time.

A comparison renders two treatments of the same frames into one picture, side by side or parted by a line.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import MediaError, Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.output import OutputFrame, output_frame
from keen_horizon.core.media.along import keeps_alpha, kept_pixels
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.formats import written_chroma
from keen_horizon.core.media.frames import Frame, gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.path.any_path import AnyPath
from keen_horizon.core.path.notes import stretches_told
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.render.borrow import lending_frames
from keen_horizon.core.render.compare import Comparison
from keen_horizon.core.render.sphere import SphereWarper
from keen_horizon.core.render.warp import Warper, coverage_of
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.delivery import as_written, encode_settings, open_writer, taken_along
from keen_horizon.pipeline.streams import Behind, ahead


@dataclass(frozen=True)
class RenderFacts:
    """What a render did: frames written, gap samples in all of them, seconds, the file's format, and the frames of the
    clip that were damaged, for which the picture beside them stands in.
    """

    frames: int
    gap_pixels: int
    seconds: float
    width: int
    height: int
    codec: str
    pix_fmt: str
    stood_in: tuple[int, ...] = ()

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)

    def notes(self) -> tuple[str, ...]:
        """What an editor should know of the pictures."""
        if not self.stood_in:
            return ()
        first = self.stood_in[0]
        marked = np.isin(np.arange(first, self.stood_in[-1] + 1), self.stood_in)
        where = stretches_told(marked, first)
        return (f"Damaged or missing in the file, so that the picture beside it stands in: {where}.",)


@dataclass(frozen=True)
class Versus:
    """What a render is compared with: another path with its treatment, and how both share the picture."""

    path: AnyPath
    treatment: Treatment
    comparison: Comparison


def render_clip(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    path: AnyPath,
    treatment: Treatment,
    destination: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    versus: Versus | None = None,
    stem: str | None = None,
) -> RenderFacts:
    """Write the treated range to `destination`; numbered pictures in it are called as it, or `stem`.

    Raises Stopped, MediaError, EncodeError.
    """
    began = time.perf_counter()
    first, last = treatment.frames(info.frames)
    total = last - first + 1
    window = FrameWindow(
        ahead(gapless(read_frames(info.footage(source), first, last, times), first, times, last)), _reach(path, versus)
    )
    opening = window.opening()
    clear = treatment.edges.clear_gaps and versus is None
    chroma, depth = kept_pixels(info, treatment.output.codec, clear)
    alpha = keeps_alpha(info, treatment.output.codec, clear) and versus is None
    written = written_chroma(treatment.output.codec, chroma, treatment.output.container)
    warpers = [warper_of(p, t, info, written, alpha) for p, t in _legs(path, treatment, versus)]
    output = warpers[-1].output
    size = versus.comparison.size(output.size) if versus else output.size
    settings = encode_settings(opening, info, treatment.output, size, chroma, depth, output.pixel_aspect, alpha=alpha)
    if isinstance(path, SpherePath) and path.outlooks is None and versus is None:
        settings = replace(settings, sphere=True)
    origin = Fraction(opening.time)
    along = taken_along(source, info, treatment, float(origin), times)
    gaps = done = 0
    stood_in: list[int] = []
    with open_writer(destination, settings, along, info, first, stem) as writer, Behind() as encoder:
        for frame in window:
            if should_stop():
                raise Stopped(f"{info.name}: the render was stopped.")
            warped = [warper.warp(frame, window.at) for warper in warpers]
            gaps += warped[-1].gap_pixels
            planes = versus.comparison.joined(*(w.planes for w in warped)) if versus else warped[-1].planes
            if settings.alpha:
                planes = (*planes, coverage_of(warped[-1], frame.bit_depth))
            encoder.call(writer.write, as_written(planes, frame, settings), frame.time - origin)
            done += 1
            if frame.repeated:
                stood_in.append(frame.number)
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
        codec=treatment.output.codec,
        pix_fmt=settings.pixel_format,
        stood_in=tuple(stood_in),
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


def _legs(path: AnyPath, treatment: Treatment, versus: Versus | None) -> list[tuple[AnyPath, Treatment]]:
    """What is compared with, if anything, and what is rendered."""
    return [*([(versus.path, versus.treatment)] if versus else []), (path, treatment)]


def _reach(path: AnyPath, versus: Versus | None) -> int:
    lenders = [p.borrowed for p in (path, versus.path if versus else None) if p and p.borrowed]
    return max((max(abs(offset) for offset in lender.offsets) for lender in lenders), default=0)


def warper_of(
    path: AnyPath, treatment: Treatment, info: ClipInfo, chroma: WrittenChroma, alpha: bool = False
) -> Warper | SphereWarper:
    """What warps a clip's frames through a path."""
    if isinstance(path, SpherePath):
        output = OutputFrame(path.size, np.eye(3), Fraction(1))
        return SphereWarper(path, info.coded, output, chroma, treatment)
    output = output_frame(path, treatment, info.coded, info.pixel_aspect)
    return Warper(path, info.coded, output, chroma, treatment, alpha)


def as_shot(treatment: Treatment) -> Treatment:
    """The same range without any correction: what "before" means."""
    plain = Treatment()
    return plain.model_copy(
        update={
            "range": treatment.range,
            "source": treatment.source,
            "view": treatment.view,
            "motion": plain.motion.model_copy(update={"intent": None, "rolling_shutter": "off"}),
            "output": treatment.output,
            "edges": plain.edges.model_copy(update={"size": treatment.edges.size}),
        }
    )
