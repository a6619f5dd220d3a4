"""One exact frame as a picture: for a viewer without WebGL, for comparisons, and at full size for a close look."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.footage import Source
from keen_horizon.core.media.frames import Frame, read_frame, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.proxy import jpeg, limited_range, picture_of, scaled_planes
from keen_horizon.core.path.any_path import AnyPath
from keen_horizon.core.render.warp import alone
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.rendering import warper_of

STILL_WIDTH = 960
STILL_QUALITY = 95  # of JPEG: of less the codec adds as much to a difference as the copy that the viewer plays
MARK_BGR = np.array([90, 193, 232], np.float32)


@dataclass(frozen=True)
class Look:
    """How a still is shown: at most `width` wide; or the `part` (x, y, width, height) of it at full size.

    `mark` tints what other frames lent.
    """

    width: int = STILL_WIDTH
    part: tuple[int, int, int, int] | None = None
    mark: bool = False


def still_jpeg(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    number: int,
    path: AnyPath | None,
    treatment: Treatment | None,
    look: Look = Look(),
) -> bytes:
    """Frame `number` as JPEG; treated when a path and its treatment are given."""
    frame, lent = read_frame(info.footage(source), number, times), None
    shown = info.display
    if path is not None and treatment is not None and path.first <= number < path.first + len(path):
        warper = warper_of(path, treatment, info, WrittenChroma("420"))
        output = warper.output
        around = _around(info.footage(source), times, number, path)
        warped = warper.warp(frame, around.get if around else alone)
        tags = replace(frame.tags, site=warper.chroma.site(frame.tags.site))
        frame = replace(frame, planes=warped.planes, tags=tags)
        lent = warped.lent if look.mark else None
        shown = Size(round(output.size.width * output.pixel_aspect), output.size.height)
    size = shown if look.part else shown.fitted(look.width)
    picture = picture_of(scaled_planes(frame, size), limited_range(frame.tags), size)
    if lent is not None:
        picture = _tinted(picture, lent)
    if look.part:
        x, y, width, height = look.part
        picture = cv2.getRectSubPix(picture, (width, height), (x + (width - 1) / 2, y + (height - 1) / 2))
    return jpeg(picture, STILL_QUALITY)


def _around(source: Source, times: NDArray[np.float64], number: int, path: AnyPath) -> dict[int, Frame]:
    """The frames that may lend to a frame, by number."""
    if path.borrowed is None:
        return {}
    wanted = {number + offset for offset in path.borrowed.offsets}
    first, last = max(path.first, min(wanted)), min(path.first + len(path) - 1, max(wanted))
    return {f.number: f for f in read_frames(source, first, last, times) if f.number in wanted}


def _tinted(picture: NDArray[np.uint8], lent: NDArray[np.float32]) -> NDArray[np.uint8]:
    share = cv2.resize(lent, (picture.shape[1], picture.shape[0]), interpolation=cv2.INTER_AREA)[..., None]
    return np.asarray(picture + (MARK_BGR - picture) * (0.45 * share), np.uint8)
