"""A flat picture, shaken by known similarities: the truth for tests of planar motion.

The picture is a part of the painted town; people may walk through in front of it, and the picture may
be noisy, as a camera's is. It is sampled from an enlarged copy: interpolating at the frames' own scale
shifts what is seen by up to 0.06 px with the sub-pixel phase (OpenCV's cubic; 0.03 its Lanczos), which
would be an error of the truth itself. At four times the scale, linear interpolation errs by 0.004 px.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.simulator.panorama import paint_panorama
from keen_horizon.simulator.town import build_town

Picture = NDArray[np.uint8]
Floats = NDArray[np.float64]

OVERSAMPLING = 4
FINELY = 20  # moments a frame at which a hand's motion is told


@lru_cache(maxsize=1)
def town_picture(width: int = 1900, height: int = 1200) -> Picture:
    """A flat picture (height, width, 3) of the harbour front, BGR."""
    world = paint_panorama(build_town(), np.array([0.0, -12.0, 0.0]), width=9216)
    rows, columns = world.picture.shape[:2]
    top, left = round(rows * 0.55) - height // 2, columns // 2 - width // 2
    return np.ascontiguousarray(world.picture[top : top + height, left : left + width])


@lru_cache(maxsize=1)
def _enlarged() -> Picture:
    """The town's picture at `OVERSAMPLING` times its scale, sharpness unchanged."""
    picture = town_picture()
    size = (picture.shape[1] * OVERSAMPLING, picture.shape[0] * OVERSAMPLING)
    return cv2.resize(picture, size, interpolation=cv2.INTER_LANCZOS4)


def jitter(count: int, size: Size, rms_px: float, seed: int, area: tuple[int, int] = (1900, 1200)) -> Similarities:
    """Independent shakes per frame, picture_from_frame (N,): `rms_px` of shift, a little turn and size."""
    random = np.random.default_rng(seed)
    z = np.exp(random.normal(0, 0.004, count) + 1j * random.normal(0, 0.008, count))
    shift = rms_px / np.sqrt(2) * (random.normal(0, 1, count) + 1j * random.normal(0, 1, count))
    centre = complex((area[0] - 1) / 2, (area[1] - 1) / 2)
    return Similarities(z, centre + shift - z * size.centre)


def shaken_pictures(
    poses: Similarities, size: Size, walkers: int = 0, noise: float = 1.5, seed: int = 0
) -> Iterator[Picture]:
    """Yield BGR pictures of size `size`, seen at `poses` picture_from_frame."""
    random = np.random.default_rng(seed)
    centre = (OVERSAMPLING - 1) / 2
    enlarged_from_picture = np.array([[OVERSAMPLING, 0, centre], [0, OVERSAMPLING, centre], [0, 0, 1]])
    for number, matrix in enumerate(poses.matrices()):
        seen = cv2.warpAffine(
            _enlarged(), (enlarged_from_picture @ matrix)[:2], (size.width, size.height),
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REFLECT,
        )  # fmt: skip
        for walker in range(walkers):
            _walk(seen, size, walker, number)
        grain = random.normal(0, noise, (size.height, size.width)).astype(np.int16)
        yield cv2.add(seen, cv2.merge([grain] * 3), dtype=cv2.CV_8U)


def hand_shake(
    count: int, size: Size, rms_px: float, seed: int, vibration_px: float = 0.0
) -> Callable[[Floats], Similarities]:
    """A hand's motion before the town's picture: picture_from_frame at any time in frames.

    It is smooth over some frames; a vibration is much quicker.
    """
    random = np.random.default_rng(seed)
    moments = np.arange(-2 * FINELY, (count + 2) * FINELY) / FINELY

    def swaying(rms: float, frames: float) -> Floats:
        noise = random.normal(size=len(moments))
        smooth = gaussian_filter1d(noise, frames * FINELY, mode="wrap")
        return np.asarray(rms * smooth / smooth.std())

    across, down = (swaying(rms_px, 3.0) + swaying(vibration_px, 0.6) for _ in "xy")
    shift = across + 1j * down
    z = np.exp(swaying(0.003, 4.0) + 1j * swaying(0.008, 3.0))
    picture = town_picture()
    centre = complex((picture.shape[1] - 1) / 2, (picture.shape[0] - 1) / 2)

    def at(times: Floats) -> Similarities:
        scale, off = (np.interp(times, moments, v.real) + 1j * np.interp(times, moments, v.imag) for v in (z, shift))
        return Similarities(scale, centre + off - scale * size.centre)

    return at


def read_row_by_row(
    poses_at: Callable[[Floats], Similarities],
    count: int,
    size: Size,
    readout: float,
    noise: float = 1.5,
    seed: int = 0,
) -> Iterator[Picture]:
    """Yield BGR pictures whose rows are seen one after another, `readout` frames from the first to the last.

    The middle row is seen at the frame's own number; negative readouts see the last row first.
    """
    random = np.random.default_rng(seed)
    x, y = np.arange(size.width), np.arange(size.height)
    for number in range(count):
        rows = poses_at(number + readout * ((y + 0.5) / size.height - 0.5))
        seen = rows.z[:, None] * (x + 1j * y[:, None]) + rows.t[:, None]
        places = seen * OVERSAMPLING + (OVERSAMPLING - 1) / 2 * (1 + 1j)
        maps = places.real.astype(np.float32), places.imag.astype(np.float32)
        picture = cv2.remap(_enlarged(), *maps, interpolation=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        grain = random.normal(0, noise, (size.height, size.width)).astype(np.int16)
        yield cv2.add(picture, cv2.merge([grain] * 3), dtype=cv2.CV_8U)


def _walk(picture: Picture, size: Size, walker: int, number: int) -> None:
    """A person, drawn into the frame itself: something that moves by its own will."""
    tall = size.height // 2
    left = (number * (5 + 2 * walker) + walker * size.width // 3) % (size.width + tall) - tall // 2
    foot = size.height - size.height // 12
    for i in range(6):
        shade = (60 + 30 * i, 90 + 20 * ((i + walker) % 4), 150 - 18 * i)
        top = foot - tall + i * tall // 6
        cv2.rectangle(picture, (left, top), (left + tall // 4, top + tall // 6), shade, -1)
    cv2.circle(picture, (left + tall // 8, foot - tall - tall // 12), tall // 10, (150, 180, 220), -1, cv2.LINE_AA)
