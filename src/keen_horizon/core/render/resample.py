"""Cubic resampling of stored planes that keeps everything where it is meant to be.

OpenCV's kernel is that of Keys, "Cubic convolution interpolation for digital image processing" (1981), with A = -0.75:
sharp, but with that A a straight ramp does not stay one. Between samples, at phase p, it gives the ramp's value at

    p + p (1 - p) (1 - 2 p) / 2

which is up to 0.048 samples aside. A sample of subsampled chroma is two of luma's wide and its phase is another, so
colours part from their light by up to 0.16 px; and a picture that is held still trembles by as much as its phases
change. So the kernel is asked for the phase at which it gives what belongs at the phase that is meant.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.mapping.frame_map import Maps
from keen_horizon.core.media.stored import Plane

Values = NDArray[np.float32]

# What is added to a meant phase is odd in it less a half: powers 1, 3, 5, fitted to the inverse of the formula above;
# nothing at a sample itself, and 0.0016 samples off at most.
ADDED = (0.30226907, -1.87080724, 2.64692377)
ROWS = 32  # that are worked on at a time, so that they stay in a processor's cache


def kept_in_place(maps: Maps) -> Maps:
    """Maps (x, y) that make `resampled` sample exactly where these say."""
    return _asked(maps[0]), _asked(maps[1])


def _asked(meant: Values) -> Values:
    """The coordinates (rows, columns) at which the kernel gives what lies at those that are meant."""
    out = np.empty_like(meant)
    first, third, fifth = (np.float32(factor) for factor in ADDED)
    for row in range(0, len(meant), ROWS):
        part, more = meant[row : row + ROWS], out[row : row + ROWS]
        odd = part - np.floor(part)
        odd -= np.float32(0.5)
        square = odd * odd
        np.multiply(square, fifth, out=more)
        more += third
        more *= square
        more += first
        more *= odd
        more += part
    return out


def resampled(plane: Plane | Values, maps: Maps, border: int, fill: float = 0.0) -> Values:
    """The plane where maps say, outside as OpenCV's `border` says, of `fill` where that is constant.

    As it comes from the kernel, which overshoots; `media.colour.whole` makes codes of it. OpenCV is quicker in floats.
    """
    values = np.asarray(plane, np.float32)
    return np.asarray(cv2.remap(values, *maps, interpolation=cv2.INTER_CUBIC, borderMode=border, borderValue=fill))
