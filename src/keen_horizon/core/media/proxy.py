"""A light copy of a clip for the viewer, and a strip of thumbnails, made in one pass of decoding.

The proxy has one picture per source frame at a constant rate, so that a frame number is the time
times the rate, exactly, whatever the source's own times; a picture that cannot be decoded is shown
as the one before it, and a file that breaks off ends there. Pixels are square and the picture upright.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import chain
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.chroma import chroma_place
from keen_horizon.core.media.colour import to_bgr
from keen_horizon.core.media.encode import EncodeSettings, chroma_size, write_video
from keen_horizon.core.media.frames import Frame, gapless, read_frames
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.media.stored import Plane, Tags

PROXY_WIDTH = 960
WIDER = 1920  # of a sphere, of which only a part is looked at
THUMBNAILS = 24
THUMBNAIL_WIDTH = 240
KEY_EVERY = 12
PROXY_QUALITY = 8  # with 12 the viewer is 0.4 of 255 further from the still that is rendered; a third larger
LOW_PASS = 0.6
SLOWEST, FASTEST = Fraction(1, 10), Fraction(1000)  # of the copy; frames of slower and faster clips only play otherwise


@dataclass(frozen=True)
class ProxyFacts:
    """What was made: size, rate, frames before the file's end or break, and how many of them really decoded."""

    size: Size
    rate: float
    frames: int
    decoded: int


def make_proxy(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    proxy: Path,
    thumbnails: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> ProxyFacts:
    """Write the proxy (MP4) and the thumbnail strip (JPEG, THUMBNAILS pictures side by side).

    `progress(done, total)` counts frames. Raises Stopped, MediaError.
    """
    size = info.display.fitted(WIDER if info.camera == "sphere" else PROXY_WIDTH)
    rate = min(max(Fraction(info.rate).limit_denominator(1001), SLOWEST), FASTEST)
    frames = gapless(read_frames(info.footage(source), 0, info.frames - 1, times), 0, times)
    pictures = _scaled(frames, size)
    opening = next(pictures)
    settings = EncodeSettings(
        size,
        8,
        "420",
        rate,
        1 / rate,
        quality=PROXY_QUALITY,
        tags=opening.tags,
        keyframe_interval=KEY_EVERY,
        preset="superfast",
    )
    tall = round(THUMBNAIL_WIDTH * size.height / size.width / 2) * 2
    strip = np.zeros((tall, THUMBNAIL_WIDTH * THUMBNAILS, 3), np.uint8)
    picks = np.linspace(0, info.frames - 1, THUMBNAILS).round().astype(int)
    number = decoded = 0
    with write_video(proxy, settings) as writer:
        for picture in chain([opening], pictures):
            if should_stop():
                raise Stopped(f"{info.name}: preparing was stopped.")
            number = picture.number
            decoded += picture.fresh
            writer.write(picture.planes, number / rate)
            slots = np.flatnonzero(picks >= number)  # and those to come, lest the file break off
            if len(slots) and picks[slots[0]] == number:
                strip[:, slots[0] * THUMBNAIL_WIDTH :] = np.tile(_thumbnail(picture, tall), (1, len(slots), 1))
            progress(number + 1, info.frames)
    thumbnails.write_bytes(jpeg(strip))
    return ProxyFacts(size, float(rate), number + 1, decoded)


@dataclass(frozen=True)
class _Picture:
    """Proxy planes of a frame number; not `fresh` where the source's picture is missing."""

    number: int
    planes: tuple[Plane, ...]
    tags: Tags
    fresh: bool


def _scaled(frames: Iterator[Frame], size: Size) -> Iterator[_Picture]:
    for frame in frames:
        yield _Picture(frame.number, scaled_planes(frame, size), limited_range(frame.tags), not frame.repeated)


def scaled_planes(frame: Frame, size: Size) -> tuple[Plane, ...]:
    """8-bit limited-range 4:2:0 planes at `size`, averaged down."""
    chroma = chroma_size(size, "420")
    scaled: list[Plane] = [
        _shrunk(plane, target) for plane, target in zip(frame.planes, (size, chroma, chroma), strict=True)
    ]
    if frame.bit_depth > 8:
        scaled = [(plane >> (frame.bit_depth - 8)).astype(np.uint8) for plane in scaled]
    if frame.tags.range == 2:
        gains = (219 / 255, 224 / 255, 224 / 255)
        bases = (16.0, 128 - 128 * gains[1], 128 - 128 * gains[2])
        scaled = [cv2.convertScaleAbs(p, alpha=g, beta=b) for p, g, b in zip(scaled, gains, bases, strict=True)]
    return tuple(scaled)


def _shrunk(plane: Plane, size: Size) -> Plane:
    """A plane at a smaller size, low-passed first: what folds over would not move with the picture."""
    shrink = plane.shape[1] / size.width
    if shrink <= 1:
        return np.asarray(cv2.resize(plane, (size.width, size.height), interpolation=cv2.INTER_AREA))
    smooth = cv2.GaussianBlur(plane, (0, 0), LOW_PASS * shrink)
    return np.asarray(cv2.resize(smooth, (size.width, size.height), interpolation=cv2.INTER_CUBIC))


def limited_range(tags: Tags) -> Tags:
    """The same tags for a limited-range copy."""
    return replace(tags, range=1)


def jpeg(picture: NDArray[np.uint8], quality: int = 85) -> bytes:
    """A BGR picture as JPEG bytes."""
    return bytes(cv2.imencode(".jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, quality])[1])


def picture_of(planes: tuple[Plane, ...], tags: Tags, size: Size) -> NDArray[np.uint8]:
    """8-bit limited-range planes as BGR (rows, columns, 3) at `size`."""

    def at_size(plane: Plane) -> Plane:
        if plane.shape[1] >= size.width:
            return np.asarray(cv2.resize(plane, (size.width, size.height), interpolation=cv2.INTER_AREA))
        across, down = size.width / plane.shape[1], size.height / plane.shape[0]
        x, y = chroma_place(tags.site, 2, 2)
        plane_from_picture = np.array(
            [[1 / across, 0, -x * (across - 1) / across], [0, 1 / down, -y * (down - 1) / down]]
        )
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        return np.asarray(
            cv2.warpAffine(
                plane, plane_from_picture, (size.width, size.height), flags=flags, borderMode=cv2.BORDER_REPLICATE
            )
        )

    return to_bgr(at_size(planes[0]), at_size(planes[1]), at_size(planes[2]), tags)


def _thumbnail(picture: _Picture, tall: int) -> NDArray[np.uint8]:
    return picture_of(picture.planes, picture.tags, Size(THUMBNAIL_WIDTH, tall))
