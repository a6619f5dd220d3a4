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
from keen_horizon.core.media.chroma import written_site
from keen_horizon.core.media.colour import code_range, luma_weights, luma_where_chroma_is
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane, Tags
from keen_horizon.core.treatment.optics import FringeSettings

Values = NDArray[np.float32]
Exactly = Callable[[Maps], Maps]
Resample = Callable[[Plane, Maps, int], Plane]  # a plane, its maps, and which one of Y, U, V it is

CELL = 8  # samples
STRIP = 64  # chroma's rows that are worked on at a time, so that they stay in a processor's cache
OVERLAP = 2  # chroma's rows on either side that a strip needs
DIFFERENCE = cv2.CV_32F  # 16 bits with a sign would not hold those of 16 bits


class Aligner:
    """Lays the colours of frames of display size `size` onto green."""

    def __init__(self, fringe: Fringe, size: Size) -> None:
        self.fringe, self.size = fringe, size

    def apart(self, maps: Maps, source: PlaneGrid, spread: Spread) -> Maps:
        """Where a colour lies in a source plane of what green shows at `maps`.

        How far aside is worked out once a cell: it changes by thousandths of a sample within.
        """
        (across, _, left), (_, down, top) = source.display_from_plane[:2]
        half = self.size.half_diagonal
        middle = self.size.centre + self.fringe.centre * half
        rows, columns = maps[0].shape
        middles = np.ix_(_middles(rows), _middles(columns))
        x, y = (part[middles] for part in maps)
        x, y = x - np.float32((middle.real - left) / across), y - np.float32((middle.imag - top) / down)
        square = np.float32((across / half) ** 2) * x * x + np.float32((down / half) ** 2) * y * y
        growth = np.float32(spread[0]) + np.float32(spread[1]) * square
        aside = (cv2.resize(growth * part, (columns, rows), interpolation=cv2.INTER_LINEAR) for part in (x, y))
        there_x, there_y = (cv2.add(part, more) for part, more in zip(maps, aside, strict=True))
        return np.asarray(there_x), np.asarray(there_y)

    def resampled(
        self, frame: Frame, maps: tuple[Maps, Maps], sources: list[PlaneGrid], resample: Resample, exactly: Exactly
    ) -> list[Plane]:
        """Y, U, V of a frame, laid back, where `maps` of luma and of chroma say.

        `resample` samples a plane where maps say; `exactly` makes it sample chroma precisely there.
        """
        rows, coarse_rows = len(maps[0][0]), len(maps[1][0])
        down = round(rows / coarse_rows)
        shapes = [maps[0][0].shape, *[maps[1][0].shape] * 2]
        out = [np.empty(shape, plane.dtype) for shape, plane in zip(shapes, frame.planes, strict=True)]
        for start in range(0, coarse_rows, STRIP):
            end = min(start + STRIP, coarse_rows)
            first, last = max(0, start - OVERLAP), min(coarse_rows, end + OVERLAP)
            luma_rows = slice(down * first, rows if last == coarse_rows else down * last)
            parts = _rows(maps[0], luma_rows), _rows(maps[1], slice(first, last))
            for plane, part, step in zip(
                out, self._strip(frame, parts, sources, resample, exactly), (down, 1, 1), strict=True
            ):
                stop = len(plane) if end == coarse_rows else step * end
                plane[step * start : stop] = part[step * (start - first) :][: stop - step * start]
        return out

    def _strip(
        self, frame: Frame, maps: tuple[Maps, Maps], sources: list[PlaneGrid], resample: Resample, exactly: Exactly
    ) -> list[Plane]:
        """The same of some rows."""
        luma, blue, red = frame.planes
        green_luma, green_chroma = maps[0], exactly(maps[1])
        at_green = resample(luma, green_luma, 0)
        luma_apart, chroma_there = [], []
        for spread in self.fringe.colours:
            there = resample(luma, self.apart(green_luma, sources[0], spread), 0)
            luma_apart.append(cv2.subtract(there, at_green, dtype=DIFFERENCE))
            chroma_there.append(exactly(self.apart(maps[1], sources[1], spread)))
        at_red, at_blue = resample(red, chroma_there[0], 2), resample(blue, chroma_there[1], 1)
        red_apart = cv2.subtract(at_red, resample(red, green_chroma, 2), dtype=cv2.CV_32F)
        blue_apart = cv2.subtract(at_blue, resample(blue, green_chroma, 1), dtype=cv2.CV_32F)
        return _together((at_green, at_blue, at_red), luma_apart, (red_apart, blue_apart), frame.bit_depth, frame.tags)


def _middles(count: int) -> NDArray[np.intp]:
    """The samples nearest to the middles of cells."""
    return np.minimum(np.arange(0, count, CELL) + CELL // 2, count - 1)


def _rows(maps: Maps, rows: slice) -> Maps:
    return maps[0][rows], maps[1][rows]


def aligner_of(settings: FringeSettings | None, size: Size) -> Aligner | None:
    """What lays back the colours of frames of display size `size`; None where they lie together."""
    fringe = None if settings is None else fringe_of(settings)
    return Aligner(fringe, size) if fringe is not None and fringe.any else None


def standing_maps(shape: tuple[int, int]) -> Maps:
    """Maps (x, y) that leave everything where it is."""
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]].astype(np.float32)
    return x, y


def _together(
    planes: tuple[Plane, ...],
    luma_apart: list[Values],
    colours_apart: tuple[Values, Values],
    depth: int,
    tags: Tags,
) -> list[Plane]:
    """Y, U, V of luma at green, of each colour difference where its own colour lies, and of how far luma and colour
    differences of red and of blue differ from green's: see above.
    """
    luma, blue, red = planes
    kr, kb = luma_weights(tags)
    a, d = 2 * (1 - kr), 2 * (1 - kb)
    _, of_luma, of_chroma = code_range(depth, tags)
    scale = of_chroma / of_luma
    site = written_site(tags.site)
    red_apart, blue_apart = colours_apart
    coarse = cv2.addWeighted(red_apart, kr * a / scale, blue_apart, kb * d / scale, 0)
    bright = cv2.addWeighted(luma_apart[0], kr, luma_apart[1], kb, 0, dtype=cv2.CV_32F)
    bright = cv2.add(bright, _as_fine(coarse, luma.shape, site))
    red_luma, blue_luma = (luma_where_chroma_is(part, red_apart.shape, site) for part in luma_apart)
    redder = cv2.addWeighted(red_luma, scale * (1 - kr) / a, blue_luma, -scale * kb / a, 0)
    redder += cv2.addWeighted(red_apart, -kr, blue_apart, -kb * d / a, 0)
    bluer = cv2.addWeighted(blue_luma, scale * (1 - kb) / d, red_luma, -scale * kr / d, 0)
    bluer += cv2.addWeighted(blue_apart, -kb, red_apart, -kr * a / d, 0)
    return [_added(plane, more, depth) for plane, more in ((luma, bright), (blue, bluer), (red, redder))]


def _as_fine(coarse: Values, shape: tuple[int, ...], site: int) -> Values:
    """Chroma samples at luma's places."""
    if coarse.shape == shape:
        return coarse
    rows, columns = shape
    steps = round(columns / coarse.shape[1]), round(rows / coarse.shape[0])
    luma_from_coarse = PlaneGrid.of(coarse.shape, steps, np.eye(3), site).display_from_plane[:2].astype(np.float32)
    smooth = cv2.INTER_LINEAR
    return np.asarray(
        cv2.warpAffine(coarse, luma_from_coarse, (columns, rows), flags=smooth, borderMode=cv2.BORDER_REPLICATE)
    )


def _added(plane: Plane, more: Values, depth: int) -> Plane:
    """A plane and more, whole codes."""
    if depth == 8:
        return np.asarray(cv2.add(plane, more, dtype=cv2.CV_8U))
    return np.asarray(np.minimum(cv2.add(plane, more, dtype=cv2.CV_16U), (1 << depth) - 1))
