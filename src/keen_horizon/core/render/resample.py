"""Cubic resampling of stored planes that keeps everything where it is meant to be.

OpenCV's kernel is that of Keys, "Cubic convolution interpolation for digital image processing" (1981), with A = -0.75:
sharp, but with that A a straight ramp does not stay one. Between samples, at phase p, it gives the ramp's value at

    p + p (1 - p) (1 - 2 p) / 2

which is up to 0.048 samples aside. A sample of subsampled chroma is two of luma's wide and its phase is another, so
colours part from their light by up to 0.16 px; and a picture that is held still trembles by as much as its phases
change. So the kernel is asked for the phase at which it gives what belongs at the phase that is meant.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.mapping.frame_map import PlaneMap
from keen_horizon.core.media.stored import Plane

Values = NDArray[np.float32]

# What is added to a place is the inverse of that formula less the phase itself. It is all but a sine of the phase: this
# one, its first harmonic, is 0.0017 samples off at most.
ADDED = -0.04877587
TURN = np.float32(2 * np.pi)
ROWS = 64  # that are worked on at a time, so that they stay in a processor's cache


def resampled(
    planes: Sequence[Plane | Values], through: PlaneMap, border: int, fills: Sequence[float] | None = None
) -> list[Values]:
    """Planes of one shape where a map says, exactly; outside as OpenCV's `border` says, `fills` where it is constant.

    As it comes from the kernel, which overshoots; `media.colour.whole` makes codes of it.
    """
    stored = [np.asarray(plane, np.float32) for plane in planes]  # OpenCV is quicker in floats
    seen = [np.empty(through.shape, np.float32) for _ in stored]
    height = through.shape[0]
    for row in range(0, height, ROWS):
        count = min(ROWS, height - row)
        x, y = (_asked(part) for part in through.rows(row, count))
        for values, out, fill in zip(stored, seen, fills or [0.0] * len(stored), strict=True):
            part = out[row : row + count]
            cv2.remap(values, x, y, cv2.INTER_CUBIC, dst=part, borderMode=border, borderValue=fill)
    return seen


def _asked(meant: Values) -> Values:
    """The coordinates (rows, columns) at which the kernel gives what lies at those that are meant."""
    added = meant * TURN
    np.sin(added, out=added)
    return np.asarray(cv2.scaleAdd(added, ADDED, meant))
