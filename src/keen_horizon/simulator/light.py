"""What glass does to the light of pictures: it falls off towards the corners."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.media.transfer import coded, linear

Picture = NDArray[np.uint8]

BT709 = 1


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
