"""The delivered picture: its stored size, and how its samples lie in the display frame.

As a rule it is the source's own stored frame. Trimming keeps the scale at 1 and cuts the window out, so
the picture is smaller; a chosen size shows as much of the window as its shape can hold; a straightened
picture may be made larger, so that its middle keeps the source's resolution.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.lens.over_time import enlargement
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class OutputFrame:
    """`size` is the stored size (even), `display_from_output` (3, 3) takes its pixels to display pixels.

    `magnified` is output pixels per display pixel down the picture.
    """

    size: Size
    display_from_output: Floats
    pixel_aspect: Fraction

    @property
    def magnified(self) -> float:
        """Output pixels for one pixel of the display frame."""
        return float(1 / self.display_from_output[1, 1])


def output_frame(path: CameraPath, treatment: Treatment, coded: Size, pixel_aspect: Fraction) -> OutputFrame:
    """The output of a clip stored at size `coded`."""
    display, edges = path.size, treatment.edges
    if edges.size is not None:
        size = Size(edges.size.width, edges.size.height)
        step = min(display.width / size.width, display.height / size.height)
        return OutputFrame(size, _centred(display, size, step, step), Fraction(1))
    if edges.way == "trim":
        shrink = float(path.shrink.max()) * edges.window.scale
        size = _even(coded.width / shrink, coded.height / shrink)
        return OutputFrame(size, _centred(display, size, shrink * display.width / coded.width, shrink), pixel_aspect)
    larger = enlargement(treatment.optics, display, path.first, path.last)
    if larger > 1:
        size = _even(coded.width * larger, coded.height * larger)
        return OutputFrame(size, resized(display, size), pixel_aspect)
    return OutputFrame(_even(coded.width, coded.height), resized(display, coded), pixel_aspect)


def _even(width: float, height: float) -> Size:
    return Size(max(2, int(width) // 2 * 2), max(2, int(height) // 2 * 2))


def _centred(display: Size, size: Size, across: float, down: float) -> Floats:
    x = display.centre.real - across * size.centre.real
    y = display.centre.imag - down * size.centre.imag
    return np.array([[across, 0.0, x], [0.0, down, y], [0.0, 0.0, 1.0]])
