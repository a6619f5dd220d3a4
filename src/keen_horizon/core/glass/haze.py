"""Coloured haze along very bright edges, which no shifting of colours cures: taken away where it is near such an edge.

How strong the edge is that a place is near to is the range of luma there and on two rings around it; colours of a
chosen hue lose saturation by it. What is flat has no range, so flat coloured things stay as they are.
"""

from __future__ import annotations

import colorsys
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float32]

REACH = 0.004  # of the picture's width: the radius of the outer ring, 8 px of 1080p, as wide as haze is seen
RING = np.exp(1j * np.pi / 4 * np.arange(8))
STARTS, WHOLE = 0.3, 0.6  # ranges of luma, of white: from where on an edge counts, and from where on wholly; choices
WEIGHTS = 0.2126, 0.0722  # of red and blue in luma: BT.709's, whatever the file's, only to tell hues by


@dataclass(frozen=True)
class Haze:
    """`amount` 0 ... 1 is the saturation that is lost, of colours up to half of `width_deg` from the hue `hue_deg`:
    0 red, 120 green, 240 blue.
    """

    amount: float
    hue_deg: float
    width_deg: float

    @property
    def direction(self) -> tuple[float, float]:
        """The hue's colour differences, towards blue and towards red, a vector of length 1."""
        red, green, blue = colorsys.hsv_to_rgb(self.hue_deg / 360 % 1, 1, 1)
        kr, kb = WEIGHTS
        luma = kr * red + (1 - kr - kb) * green + kb * blue
        way = complex((blue - luma) / (2 * (1 - kb)), (red - luma) / (2 * (1 - kr)))
        return way.real / abs(way), way.imag / abs(way)

    @property
    def half_width(self) -> float:
        """How far a hue may be from it, radians."""
        return float(np.radians(self.width_deg) / 2)

    def kept(self, contrast: Values, blue: Values, red: Values) -> Values:
        """The saturation that is left where luma ranges by `contrast`, of colour differences towards blue and red."""
        near = np.clip((contrast - np.float32(STARTS)) / np.float32(WHOLE - STARTS), 0, 1)
        return np.asarray(1 - np.float32(self.amount) * near * self.chosen(blue, red))

    def chosen(self, blue: Values, red: Values) -> Values:
        """How much colours are of the hue, 0 ... 1: wholly in the middle half of the range, less towards its ends."""
        to_blue, to_red = self.direction
        along = blue * np.float32(to_blue) + red * np.float32(to_red)
        cosine = along / np.maximum(np.hypot(blue, red), np.float32(1e-6))
        away = np.arccos(np.clip(cosine, -1, 1)) / np.float32(self.half_width)
        return np.asarray(np.clip(2 - 2 * away, 0, 1), np.float32)


def places(width: float) -> NDArray[np.complex128]:
    """Where luma is looked at around a place of a picture so wide, in its pixels."""
    reach = REACH * width
    return np.concatenate([[0], RING * reach, RING * reach / 2])
