"""What glass does to the light of pictures: it falls off towards the corners, and its colours lie apart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.glass.fringe import Fringe, Spread
from keen_horizon.core.media.transfer import coded, linear
from keen_horizon.core.render.resample import kept_in_place, resampled

Picture = NDArray[np.uint8]

BT709 = 1
ROUNDS = 4  # of finding where a colour came from: each is nearer by the spread, a hundredth and less


def darkened(
    pictures: Iterable[Picture], size: Size, falloff: Falloff, drift: float = 0.0, period: float = 80.0
) -> Iterator[Picture]:
    """BGR pictures behind glass, coded by BT.709; their exposure drifts by a share, up and down over a `period`."""
    middle, half = size.centre, size.half_diagonal
    x, y = (np.arange(size.width) - middle.real) / half, (np.arange(size.height) - middle.imag) / half
    gain = falloff.gain(falloff.squares(x[None], y[:, None])).astype(np.float32)
    light = linear(np.arange(256, dtype=np.float32) / 255, BT709)
    for number, picture in enumerate(pictures):
        exposure = np.float32(1 + drift * np.sin(2 * np.pi * number / period))
        seen = light[picture] * (gain * exposure)[..., None]
        yield np.asarray(cv2.convertScaleAbs(coded(np.minimum(seen, 1), BT709), alpha=255), np.uint8)


def fringed(pictures: Iterable[Picture], size: Size, fringe: Fringe) -> Iterator[Picture]:
    """BGR pictures whose red and blue lie where the glass puts them."""
    places = ((0, _came_from(size, fringe, fringe.blue)), (2, _came_from(size, fringe, fringe.red)))
    for picture in pictures:
        seen = picture.copy()
        for channel, maps in places:
            seen[..., channel] = resampled(np.ascontiguousarray(picture[..., channel]), maps, cv2.BORDER_REFLECT)
        yield seen


def _came_from(size: Size, fringe: Fringe, spread: Spread) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """For every sample, where its light would lie without the fringe."""
    middle, half = size.centre, size.half_diagonal
    seen = (np.arange(size.width)[None] + 1j * np.arange(size.height)[:, None] - middle) / half
    true = seen
    for _ in range(ROUNDS):
        true = true - (fringe.seen(spread, true) - seen)
    places = true * half + middle
    return kept_in_place((places.real.astype(np.float32), places.imag.astype(np.float32)))
