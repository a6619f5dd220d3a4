"""A light copy of a clip for the viewer, and a strip of thumbnails, made in one pass of decoding.

The proxy has one picture per source frame at a constant rate, so that a frame number is the time
times the rate, exactly, whatever the source's own times; a picture that cannot be decoded is shown
as the one before it. Pixels are square and the picture upright.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import Stopped
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.encode import EncodeSettings, chroma_size, write_video
from keen_horizon.core.media.frames import Frame, Plane, Tags, read_frames
from keen_horizon.core.media.probe import ClipInfo

PROXY_WIDTH = 960
THUMBNAILS = 24
THUMBNAIL_WIDTH = 240


@dataclass(frozen=True)
class ProxyFacts:
    """What was made: size, rate, and how many source frames really decoded."""

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
    size = info.display.fitted(PROXY_WIDTH)
    rate = Fraction(info.rate).limit_denominator(1001)
    settings = EncodeSettings(
        size,
        8,
        "420",
        rate,
        1 / rate,
        quality=20,
        preset="veryfast",
        tags=Tags(1, 1, 1, 1),
        keyframe_interval=12,
    )
    tall = round(THUMBNAIL_WIDTH * size.height / size.width / 2) * 2
    strip = np.zeros((tall, THUMBNAIL_WIDTH * THUMBNAILS, 3), np.uint8)
    picks = np.linspace(0, info.frames - 1, THUMBNAILS).round().astype(int)
    decoded = 0
    with write_video(proxy, settings) as writer:
        for number, frame, planes in _every_number(source, info.frames, times, size):
            if should_stop():
                raise Stopped(f"{info.name}: preparing was stopped.")
            decoded += frame is not None
            writer.write(planes, number / rate)
            for slot in np.flatnonzero(picks == number):
                left = slot * THUMBNAIL_WIDTH
                strip[:, left : left + THUMBNAIL_WIDTH] = _thumbnail(planes, tall)
            progress(number + 1, info.frames)
    thumbnails.write_bytes(cv2.imencode(".jpg", strip, [cv2.IMWRITE_JPEG_QUALITY, 85])[1].tobytes())
    return ProxyFacts(size, float(rate), info.frames, decoded)


def _every_number(
    source: Path, count: int, times: NDArray[np.float64], size: Size
) -> Iterator[tuple[int, Frame | None, tuple[Plane, ...]]]:
    """Yield every frame number once; a missing picture repeats the last one."""
    expected = 0
    planes: tuple[Plane, ...] | None = None
    for frame in read_frames(source, 0, count - 1, times):
        if frame.number < expected:
            continue
        fresh = scaled_planes(frame, size)
        for number in range(expected, frame.number):
            yield number, None, planes or fresh
        planes = fresh
        yield frame.number, frame, planes
        expected = frame.number + 1
    for number in range(expected, count):
        assert planes is not None
        yield number, None, planes


def scaled_planes(frame: Frame, size: Size) -> tuple[Plane, ...]:
    """8-bit limited-range 4:2:0 planes at `size`, averaged down."""
    chroma = chroma_size(size, "420")
    scaled = [
        cv2.resize(plane, (target.width, target.height), interpolation=cv2.INTER_AREA)
        for plane, target in zip(frame.planes, (size, chroma, chroma), strict=True)
    ]
    if frame.bit_depth > 8:
        scaled = [(plane >> (frame.bit_depth - 8)).astype(np.uint8) for plane in scaled]
    if frame.tags.range == 2:
        gains = (219 / 255, 224 / 255, 224 / 255)
        bases = (16.0, 128 - 128 * gains[1], 128 - 128 * gains[2])
        scaled = [cv2.convertScaleAbs(p, alpha=g, beta=b) for p, g, b in zip(scaled, gains, bases, strict=True)]
    return tuple(scaled)


def to_bgr(planes: tuple[Plane, ...]) -> NDArray[np.uint8]:
    """8-bit limited-range 4:2:0 planes of even size as BGR (rows, columns, 3), BT.601 as for JPEG use."""
    height, width = planes[0].shape
    packed = np.concatenate([plane.reshape(-1) for plane in planes]).reshape(height * 3 // 2, width)
    return np.asarray(cv2.cvtColor(packed, cv2.COLOR_YUV2BGR_I420), np.uint8)


def _thumbnail(planes: tuple[Plane, ...], tall: int) -> NDArray[np.uint8]:
    picture = to_bgr(planes)
    return np.asarray(cv2.resize(picture, (THUMBNAIL_WIDTH, tall), interpolation=cv2.INTER_AREA), np.uint8)
