"""Red and blue laid back onto green while planes are resampled: three maps, one resampling each.

Red of the output is red of the source where the glass put it. At the resolution that the file has of colour, the source
is light of three colours in luma's codes: R = Y + a Cr, B = Y + d Cb and G = (Y - kr R - kb B) / (1 - kr - kb), with
a = 2 (1 - kr) and d = 2 (1 - kb) (ITU-T H.273, 8.3). Each is sampled where its own colour lies; Y, Cb and Cr of the
three are what is delivered.

Where chroma is subsampled luma is finer. It is sampled where green lies, and changed as Y of the three changed. That
leaves the detail which luma alone has, as if it were the same D in all three colours: the file has D where green lies
and its red share where red lies, kr (D(x - e) - D(x)) too much with red e aside. D is not known, but nearly what luma
shows, so the same of luma is taken off, in the source: what is left is of the order of kr squared. (Taking luma from
red's place instead moves green's share of the detail as well, and leaves it worse than it was.) Blue's share, 6 to 11
hundredths, stays.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.fringe import Fringe, Spread
from keen_horizon.core.mapping.frame_map import Maps, PlaneGrid, PlaneMap, planar_map
from keen_horizon.core.mapping.light import fringe_of
from keen_horizon.core.media.colour import code_range, luma_weights, luma_where_chroma_is, whole
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane, Tags
from keen_horizon.core.render.resample import Values, resampled
from keen_horizon.core.treatment.optics import FringeSettings

CELL = 8  # samples


@dataclass(frozen=True)
class Beyond:
    """What lies outside a source's planes: OpenCV's `border`, and the codes of Y, U, V where that is constant."""

    border: int
    fill: tuple[float, float, float]


@dataclass(frozen=True)
class Coding:
    """How codes and light of three colours, in luma's codes, make each other. `red` and `blue` are the weights of
    luma, `redder` and `bluer` what a code of Cr and of Cb brings, `middle` is the code without colour.
    """

    red: float
    blue: float
    redder: float
    bluer: float
    middle: float

    @staticmethod
    def of(depth: int, tags: Tags) -> Coding:
        """That of a file."""
        red, blue = luma_weights(tags)
        _, of_luma, of_chroma = code_range(depth, tags)
        scale = of_luma / of_chroma
        return Coding(red, blue, 2 * (1 - red) * scale, 2 * (1 - blue) * scale, float(128 << (depth - 8)))

    def light(self, luma: Values, u: Values, v: Values) -> tuple[Values, Values, Values]:
        """Red, green and blue of Y, U, V of one shape."""
        red = luma + self.redder * (v - self.middle)
        blue = luma + self.bluer * (u - self.middle)
        green = (luma - self.red * red - self.blue * blue) / (1 - self.red - self.blue)
        return red, np.asarray(green, np.float32), blue

    def codes(self, red: Values, green: Values, blue: Values) -> tuple[Values, Values, Values]:
        """Y, U, V of three colours."""
        luma = self.red * red + (1 - self.red - self.blue) * green + self.blue * blue
        return luma, (blue - luma) / self.bluer + self.middle, (red - luma) / self.redder + self.middle


@dataclass(frozen=True)
class Lights:
    """A frame as light of three colours where chroma's samples are, and its luma there and in its own resolution; all
    with what lies beyond, of `border` and of codes.
    """

    coding: Coding
    colours: tuple[Values, Values, Values]
    coarse: Values
    fine: Values
    border: int
    beyond_colours: tuple[float, ...]
    beyond_luma: float

    def seen(self, red: PlaneMap, green: PlaneMap, blue: PlaneMap) -> tuple[tuple[Values, Values, Values], Values]:
        """Y, U, V at chroma's resolution of colours that lie where maps say; and luma alone where green lies."""
        of_red, of_green, of_blue = self.colours
        in_red, in_green, in_blue = self.beyond_colours
        (light_red,) = resampled([of_red], red, self.border, [in_red])
        light_green, luma = resampled([of_green, self.coarse], green, self.border, [in_green, self.beyond_luma])
        (light_blue,) = resampled([of_blue], blue, self.border, [in_blue])
        return self.coding.codes(light_red, light_green, light_blue), luma

    @property
    def subsampled(self) -> bool:
        """Whether luma is finer than colour."""
        return self.fine.shape != self.coarse.shape

    def fine_luma(self, through: PlaneMap) -> Values:
        """Luma at its own resolution."""
        return resampled([self.fine], through, self.border, [self.beyond_luma])[0]


class Aligner:
    """Lays the colours of frames of display size `size` onto green."""

    def __init__(self, fringe: Fringe, size: Size) -> None:
        self.fringe, self.size = fringe, size
        self._behind: Maps | None = None  # places in the source as far on the other side as red is aside

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
        self, frame: Frame, maps: tuple[PlaneMap, PlaneMap], sources: list[PlaneGrid], beyond: Beyond, *, site: int
    ) -> list[Plane]:
        """Y, U, V of a frame, laid back, where `maps` of luma and of chroma say; chroma has its new `site` there."""
        fine, coarse = maps
        lights = self._lights(frame, sources[0], beyond)
        red, blue = (PlaneMap.of(self.apart(coarse.whole, sources[1], spread)) for spread in self.fringe.colours)
        (luma, u, v), alone = lights.seen(red, coarse, blue)
        if lights.subsampled:
            more = _as_fine(luma - alone, fine.shape, site)
            luma = np.add(lights.fine_luma(fine), more, out=more)
        return [whole(plane, frame.bit_depth) for plane in (luma, u, v)]

    def _lights(self, frame: Frame, source: PlaneGrid, beyond: Beyond) -> Lights:
        coding = Coding.of(frame.bit_depth, frame.tags)
        fine, u, v = (plane.astype(np.float32) for plane in frame.planes)
        coarse = luma_where_chroma_is(fine, u.shape, frame.tags.site)
        colours = coding.light(coarse, u, v)
        if fine.shape != u.shape:
            fine = self._without_red_detail(fine, source, coding.red)
            coarse = luma_where_chroma_is(fine, u.shape, frame.tags.site)
        beyond_colours = coding.light(*(np.array([code], np.float32) for code in beyond.fill))
        return Lights(
            coding=coding,
            colours=colours,
            coarse=coarse,
            fine=fine,
            border=beyond.border,
            beyond_colours=tuple(float(fill[0]) for fill in beyond_colours),
            beyond_luma=beyond.fill[0],
        )

    def _without_red_detail(self, luma: Values, source: PlaneGrid, share: float) -> Values:
        """Luma without what red's share of its detail, lying aside, brings and takes."""
        if self._behind is None or self._behind[0].shape != luma.shape:
            linear, cubic = self.fringe.red
            self._behind = self.apart(standing_map(luma.shape).whole, source, (-linear, -cubic))
        aside = cv2.remap(luma, *self._behind, interpolation=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(cv2.addWeighted(luma, 1 + share, aside, -share, 0))


def _middles(count: int) -> NDArray[np.intp]:
    """The samples nearest to the middles of cells."""
    return np.minimum(np.arange(0, count, CELL) + CELL // 2, count - 1)


def aligner_of(settings: FringeSettings | None, size: Size) -> Aligner | None:
    """What lays back the colours of frames of display size `size`; None where they lie together."""
    fringe = None if settings is None else fringe_of(settings)
    return Aligner(fringe, size) if fringe is not None and fringe.any else None


def standing_map(shape: tuple[int, int]) -> PlaneMap:
    """What leaves everything where it is."""
    return planar_map(np.eye(3), shape)


def _as_fine(coarse: Values, shape: tuple[int, ...], site: int) -> Values:
    """Chroma samples at luma's places."""
    rows, columns = shape
    steps = round(columns / coarse.shape[1]), round(rows / coarse.shape[0])
    luma_from_coarse = PlaneGrid.of(coarse.shape, steps, np.eye(3), site).display_from_plane[:2].astype(np.float32)
    smooth = cv2.INTER_LINEAR
    return np.asarray(
        cv2.warpAffine(coarse, luma_from_coarse, (columns, rows), flags=smooth, borderMode=cv2.BORDER_REPLICATE)
    )
