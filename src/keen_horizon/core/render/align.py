"""Red and blue laid back onto green while planes are resampled: three maps, one resampling each.

Red of the output is red of the source where the glass put it, and R = Y + a Cr: so luma is sampled where each of the
three colours lies, and each colour difference where its own colour and where green lies. From these, at the resolution
that the file has of each, luma and colour differences of the output are put together again (ITU-T H.273, 8.3):

    Y'  = Y_g + kr DR + kb DB + kr a dCr + kb d dCb         DR = Y_r - Y_g, DB = Y_b - Y_g
    Cr' = Cr_r + ((1 - kr) DR - kb DB) / a - kr dCr - kb (d / a) dCb      dCr = Cr_r - Cr_g, dCb = Cb_b - Cb_g
    Cb' = Cb_b + ((1 - kb) DB - kr DR) / d - kb dCb - kr (a / d) dCr

with a = 2 (1 - kr) and d = 2 (1 - kb). Where chroma is subsampled its own detail is no finer than the file has it.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.fringe import Fringe, Spread
from keen_horizon.core.mapping.light import fringe_of
from keen_horizon.core.mapping.sampling import Maps, PlaneGrid
from keen_horizon.core.media.colour import code_range, luma_weights, luma_where_chroma_is
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane, Tags
from keen_horizon.core.treatment.optics import FringeSettings

Values = NDArray[np.float32]
Resample = Callable[[Plane, Maps, int], Plane]  # a plane, its maps, and which one of Y, U, V it is

ROWS = 32  # that are worked on at a time, so that they stay in a processor's cache


class Aligner:
    """Lays the colours of frames of display size `size` onto green."""

    def __init__(self, fringe: Fringe, size: Size) -> None:
        self.fringe, self.size = fringe, size

    def apart(self, maps: Maps, source: PlaneGrid, spread: Spread) -> Maps:
        """Where a colour lies in a source plane of what green shows at `maps`."""
        (across, _, left), (_, down, top) = source.display_from_plane[:2]
        half = self.size.half_diagonal
        middle = self.size.centre + self.fringe.centre * half
        x0, y0 = np.float32((middle.real - left) / across), np.float32((middle.imag - top) / down)
        wide, tall = np.float32((across / half) ** 2), np.float32((down / half) ** 2)
        linear, cubic = np.float32(spread[0]), np.float32(spread[1])
        out = np.empty_like(maps[0]), np.empty_like(maps[1])
        for row in range(0, len(maps[0]), ROWS):
            rows = slice(row, row + ROWS)
            x, y = maps[0][rows] - x0, maps[1][rows] - y0
            growth = linear + cubic * (wide * x * x + tall * y * y)
            out[0][rows] = maps[0][rows] + growth * x
            out[1][rows] = maps[1][rows] + growth * y
        return out

    def resampled(
        self,
        frame: Frame,
        maps: tuple[Maps, Maps],
        sources: list[PlaneGrid],
        resample: Resample,
        site: int,
    ) -> tuple[Plane, ...]:
        """Y, U, V of a frame, laid back, where `maps` of luma and of chroma say; `site` is that of the output's chroma.

        `resample` samples a plane where maps say.
        """
        luma, blue, red = frame.planes
        red_maps, blue_maps = ([self.apart(m, s, spread) for m, s in zip(maps, sources[:2], strict=True)]
                               for spread in self.fringe.colours)  # fmt: skip
        at_green = resample(luma, maps[0], 0)
        luma_apart = [
            cv2.subtract(resample(luma, there[0], 0), at_green, dtype=cv2.CV_32F) for there in (red_maps, blue_maps)
        ]
        at_red, at_blue = resample(red, red_maps[1], 2), resample(blue, blue_maps[1], 1)
        red_apart = cv2.subtract(at_red, resample(red, maps[1], 2), dtype=cv2.CV_32F)
        blue_apart = cv2.subtract(at_blue, resample(blue, maps[1], 1), dtype=cv2.CV_32F)
        return _together(
            at_green, (at_red, at_blue), luma_apart, (red_apart, blue_apart), frame.bit_depth, frame.tags, site
        )


def aligner_of(settings: FringeSettings | None, size: Size) -> Aligner | None:
    """What lays back the colours of frames of display size `size`; None where they lie together."""
    fringe = None if settings is None else fringe_of(settings)
    return Aligner(fringe, size) if fringe is not None and fringe.any else None


def standing_maps(shape: tuple[int, int]) -> Maps:
    """Maps (x, y) that leave everything where it is."""
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]].astype(np.float32)
    return x, y


def _together(
    luma: Plane,
    colours: tuple[Plane, Plane],
    luma_apart: list[Values],
    colours_apart: tuple[Values, Values],
    depth: int,
    tags: Tags,
    site: int,
) -> tuple[Plane, ...]:
    """Y, U, V of red's and blue's own samples and how far they differ from green's, see above."""
    kr, kb = luma_weights(tags)
    a, d = 2 * (1 - kr), 2 * (1 - kb)
    _, of_luma, of_chroma = code_range(depth, tags)
    scale = of_chroma / of_luma
    red_apart, blue_apart = colours_apart
    coarse = cv2.addWeighted(red_apart, kr * a / scale, blue_apart, kb * d / scale, 0)
    bright = cv2.addWeighted(luma_apart[0], kr, luma_apart[1], kb, 0)
    bright += _as_fine(coarse, luma.shape, site)
    red_luma, blue_luma = (luma_where_chroma_is(part, red_apart.shape, site) for part in luma_apart)
    red = cv2.addWeighted(red_luma, scale * (1 - kr) / a, blue_luma, -scale * kb / a, 0)
    red += cv2.addWeighted(red_apart, -kr, blue_apart, -kb * d / a, 0)
    blue = cv2.addWeighted(blue_luma, scale * (1 - kb) / d, red_luma, -scale * kr / d, 0)
    blue += cv2.addWeighted(blue_apart, -kb, red_apart, -kr * a / d, 0)
    sums = ((luma, bright), (colours[1], blue), (colours[0], red))
    return tuple(_whole(cv2.add(plane, more, dtype=cv2.CV_32F), depth, plane) for plane, more in sums)


def _as_fine(coarse: Values, shape: tuple[int, ...], site: int) -> Values:
    """Chroma samples at luma's places."""
    if coarse.shape == shape:
        return coarse
    rows, columns = shape
    grid = PlaneGrid.of(
        coarse.shape, (round(columns / coarse.shape[1]), round(rows / coarse.shape[0])), np.eye(3), site
    )
    luma_from_coarse = grid.display_from_plane[:2].astype(np.float32)
    return np.asarray(
        cv2.warpAffine(
            coarse, luma_from_coarse, (columns, rows), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
    )


def _whole(values: Values, depth: int, like: Plane) -> Plane:
    return np.rint(np.clip(values, 0, (1 << depth) - 1)).astype(like.dtype)
