"""Warping frames of a sphere: each plane once, as it is stored, wrapped where the sphere's sides meet."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.mapping.frame_map import FrameMap, Maps, PlaneGrid, PlaneMap
from keen_horizon.core.mapping.output import OutputFrame
from keen_horizon.core.mapping.sphere import SphereMap
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.colour import values_of, whole
from keen_horizon.core.media.encode import chroma_size
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.render.resample import Values, resampled
from keen_horizon.core.render.warp import Warped, alone, sharpened
from keen_horizon.core.treatment.document import Treatment

REACH = 3  # samples on every side that a cubic kernel may ask for


class SphereWarper:
    """Warps frames of a sphere, stored at size `coded`, into a path's delivered size with a `chroma` layout."""

    def __init__(
        self, path: SpherePath, coded: Size, output: OutputFrame, chroma: WrittenChroma, treatment: Treatment
    ) -> None:
        self.path, self.coded, self.output, self.chroma = path, coded, output, chroma
        self.map: FrameMap = SphereMap(path)
        self.gap_colour, self.sharpen = treatment.edges.gap_colour, treatment.edges.sharpen
        self._display_from_coded = resized(path.sphere.size, coded)

    def warp(self, frame: Frame, frame_at: Callable[[int], Frame | None] = alone) -> Warped:
        """One frame through the map of its number; no other frame is asked for."""
        fill = values_of(self.gap_colour, frame.bit_depth, frame.tags)
        luma, chroma = (self._asked(frame, number) for number in (0, 1))  # V's places are U's
        values = luma.of(frame.planes[:1], fill[:1]) + chroma.of(frame.planes[1:], fill[1:])
        planes = [whole(plane, frame.bit_depth) for plane in values]
        if self.sharpen:
            planes[0] = sharpened(planes[0], self.sharpen, frame.bit_depth)
        return Warped(tuple(planes), luma.gaps)

    def _asked(self, frame: Frame, number: int) -> _Asked:
        """What the delivered picture asks of a frame's plane."""
        shape, site = frame.planes[number].shape, frame.tags.site
        size = self.output.size if number == 0 else chroma_size(self.output.size, self.chroma.layout)
        steps = (1, 1) if number == 0 else self.chroma.steps
        written = self.chroma.site(site)
        target = PlaneGrid.of((size.height, size.width), steps, self.output.display_from_output, written)
        apart = round(self.coded.height / shape[0]), round(self.coded.width / shape[1])
        source = PlaneGrid.of((shape[0], shape[1]), apart[::-1], self._display_from_coded, site)
        maps = self.map.plane_maps(frame.number, target, source)
        return _Asked.around(maps) if self.path.sphere.whole else _Asked.inside(maps, shape[1])


@dataclass(frozen=True)
class _Asked:
    """The part of a plane that is asked for: `columns` and `rows`, from a first to before a last one, and `maps` within
    it; half a sphere is asked as it is, and has `gaps` beside it.
    """

    maps: Maps
    columns: tuple[int, int] | None = None
    rows: tuple[int, int] | None = None
    gaps: int = 0

    @staticmethod
    def around(maps: Maps) -> _Asked:
        """Of a whole sphere, whose sides meet."""
        columns, rows = ((int(np.floor(part.min())) - REACH, int(np.ceil(part.max())) + REACH + 1) for part in maps)
        moved = maps[0] - np.float32(columns[0]), maps[1] - np.float32(rows[0])
        return _Asked(moved, columns, rows)

    @staticmethod
    def inside(maps: Maps, width: int) -> _Asked:
        """Of half a sphere, so many samples wide."""
        return _Asked(maps, gaps=int(((maps[0] < -0.5) | (maps[0] > width - 0.5)).sum()))

    def of(self, planes: Sequence[Plane], codes: Sequence[float]) -> list[Values]:
        """Values of planes of one shape there; of `codes` where they have none."""
        if self.columns is None or self.rows is None:
            return resampled(planes, PlaneMap.of(self.maps), cv2.BORDER_CONSTANT, codes)
        asked = [around(plane, self.columns, self.rows) for plane in planes]
        return resampled(asked, PlaneMap.of(self.maps), cv2.BORDER_REPLICATE)


def around(plane: Plane, columns: tuple[int, int], rows: tuple[int, int]) -> Plane:
    """Samples of a whole sphere's plane from a first to before a last column and row, which may lie beyond its sides:
    columns go on at the other side, and rows over the pole, half around.
    """
    height, width = plane.shape
    parts = []
    inside = max(0, rows[0]), min(height, rows[1])
    if rows[0] < 0:
        over = _wrapped(plane[: -rows[0]], (columns[0] + width // 2, columns[1] + width // 2))
        parts.append(over[::-1])
    parts.append(_wrapped(plane[inside[0] : inside[1]], columns))
    if rows[1] > height:
        over = _wrapped(plane[2 * height - rows[1] :], (columns[0] + width // 2, columns[1] + width // 2))
        parts.append(over[::-1])
    return parts[0] if len(parts) == 1 else np.concatenate(parts)


def _wrapped(rows: Plane, columns: tuple[int, int]) -> Plane:
    """The columns from a first to before a last one, of rows that go on at their other side."""
    width = rows.shape[1]
    start, stop = columns[0] % width, columns[0] % width + columns[1] - columns[0]
    pieces = []
    while start < stop:
        end = min(stop, width)
        pieces.append(rows[:, start:end])
        start, stop = 0, stop - end
    return pieces[0] if len(pieces) == 1 else np.concatenate(pieces, axis=1)
