"""What glass does to the light of pictures: it falls off towards the corners, and its colours lie apart."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.dead import DeadEdge
from keen_horizon.core.glass.falloff import Falloff
from keen_horizon.core.glass.fringe import Fringe, Spread
from keen_horizon.core.mapping.frame_map import PlaneMap
from keen_horizon.core.media.colour import whole
from keen_horizon.core.media.transfer import coded, linear
from keen_horizon.core.render.resample import resampled

Picture = NDArray[np.uint8]

BT709 = 1
STEPS = 1 << 14  # of light, between black and white: a fourteenth of a code in the darkest


@dataclass(frozen=True)
class Glass:
    """What stands before a camera."""

    falloff: Falloff
    fringe: Fringe
    dead: DeadEdge | None = None

    def seen(self, pictures: Iterable[Picture], size: Size) -> Iterator[Picture]:
        """BGR pictures behind it."""
        return darkened(fringed(pictures, size, self.fringe), size, self.falloff, dead=self.dead)

    def to_json(self) -> dict[str, Any]:
        """The truth, as a treatment has it."""
        falloff, fringe, dead = self.falloff, self.fringe, self.dead
        return {
            "falloff": {"coefficients": falloff.coefficients, "centre": [falloff.centre.real, falloff.centre.imag]},
            "fringe": {"red": fringe.red, "blue": fringe.blue, "centre": [fringe.centre.real, fringe.centre.imag]},
            "dead": dead and {"radius": dead.radius, "centre": [dead.centre.real, dead.centre.imag],
                              "sides": dead.sides, "softness": dead.softness},
        }  # fmt: skip


ROUNDS = 4  # of finding where a colour came from: each is nearer by the spread, a hundredth and less


def darkened(
    pictures: Iterable[Picture],
    size: Size,
    falloff: Falloff,
    drift: float = 0.0,
    period: float = 80.0,
    dead: DeadEdge | None = None,
) -> Iterator[Picture]:
    """BGR pictures behind glass, coded by BT.709; their exposure drifts by a share, up and down over a `period`."""
    middle, half = size.centre, size.half_diagonal
    x, y = (np.arange(size.width) - middle.real) / half, (np.arange(size.height) - middle.imag) / half
    gain = falloff.gain(falloff.squares(x[None], y[:, None])).astype(np.float32)
    if dead is not None:
        gain *= dead.light(x[None] + 1j * y[:, None]).astype(np.float32)
    light = linear(np.arange(256, dtype=np.float32) / 255, BT709)
    codes = np.rint(255 * coded(np.linspace(0, 1, STEPS, dtype=np.float32), BT709)).astype(np.uint8)
    for number, picture in enumerate(pictures):
        exposure = np.float32(1 + drift * np.sin(2 * np.pi * number / period))
        seen = light[picture] * (gain * exposure)[..., None]
        yield codes[np.rint((STEPS - 1) * np.minimum(seen, 1)).astype(np.uint16)]


def fringed(pictures: Iterable[Picture], size: Size, fringe: Fringe) -> Iterator[Picture]:
    """BGR pictures whose red and blue lie where the glass puts them."""
    places = ((0, _came_from(size, fringe, fringe.blue)), (2, _came_from(size, fringe, fringe.red)))
    for picture in pictures:
        seen = picture.copy()
        for channel, maps in places:
            (values,) = resampled([picture[..., channel]], PlaneMap.of(maps), cv2.BORDER_REFLECT)
            seen[..., channel] = whole(values, 8)
        yield seen


def _came_from(size: Size, fringe: Fringe, spread: Spread) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """For every sample, where its light would lie without the fringe."""
    middle, half = size.centre, size.half_diagonal
    seen = (np.arange(size.width)[None] + 1j * np.arange(size.height)[:, None] - middle) / half
    true = seen
    for _ in range(ROUNDS):
        true = true - (fringe.seen(spread, true) - seen)
    places = true * half + middle
    return places.real.astype(np.float32), places.imag.astype(np.float32)
