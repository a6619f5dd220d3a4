"""Resampling stored planes through the sampling map.

Luma and chroma are warped as they are stored, at native depth: no conversion of colour, one
interpolation (cubic). Where the map leaves the source, the gap colour stands, given in the source's own
matrix and range so that it needs no conversion either.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.mapping.gaps import TOLERANCE_PX, border_overhang, gap_mask
from keen_horizon.core.mapping.sampling import Maps, PlaneGrid, SamplingMap, dense_maps
from keen_horizon.core.media.colour import values_of
from keen_horizon.core.media.encode import chroma_size
from keen_horizon.core.media.frames import Frame, Plane


@dataclass(frozen=True)
class Warped:
    """Planes of one output frame and how many of its luma samples had no picture."""

    planes: tuple[Plane, ...]
    gap_pixels: int


class Warper:
    """Warps frames of one clip: `coded` and `display` sizes of the source, `chroma` of the output."""

    def __init__(self, sampling: SamplingMap, coded: Size, chroma: str, gap_colour: str, gaps_allowed: bool) -> None:
        self.sampling, self.coded, self.chroma = sampling, coded, chroma
        self.out_size = Size(coded.width - coded.width % 2, coded.height - coded.height % 2)
        self.gap_colour, self.gaps_allowed = gap_colour, gaps_allowed

    def warp(self, frame: Frame) -> Warped:
        """One frame through the map of its number."""
        targets = self._targets()
        sources = [self._grid(plane.shape) for plane in frame.planes]
        matrix = self.sampling.matrix(frame.number)
        if matrix is not None and np.allclose(matrix, np.eye(3), atol=1e-9):
            same = [t.shape == s.shape for t, s in zip(targets, sources, strict=True)]
            if all(same):
                return Warped(frame.planes, 0)
        fill = values_of(self.gap_colour, frame.bit_depth, frame.tags)
        planes: list[Plane] = []
        gaps = 0
        for i, (plane, target, source) in enumerate(zip(frame.planes, targets, sources, strict=True)):
            if i < 2:  # U and V share their map
                maps = dense_maps(self.sampling, frame.number, target, source)
            if i == 0 and border_overhang(self.sampling, frame.number) > TOLERANCE_PX:
                gaps = int(gap_mask(maps, Size(plane.shape[1], plane.shape[0])).sum())
            planes.append(self._resample(plane, maps, fill[i], frame.bit_depth))
        return Warped(tuple(planes), gaps)

    def _resample(self, plane: Plane, maps: Maps, fill: int, depth: int) -> Plane:
        border = cv2.BORDER_CONSTANT if self.gaps_allowed else cv2.BORDER_REPLICATE
        out = cv2.remap(plane, *maps, interpolation=cv2.INTER_CUBIC, borderMode=border, borderValue=float(fill))
        if depth > 8:
            out = np.minimum(out, (1 << depth) - 1)
        return np.asarray(out)

    def _targets(self) -> list[PlaneGrid]:
        sizes = [self.out_size] + [chroma_size(self.out_size, self.chroma)] * 2
        steps = {"420": (2, 2), "422": (2, 1), "444": (1, 1)}[self.chroma]
        return [
            PlaneGrid.of((s.height, s.width), (1, 1) if i == 0 else steps, self.coded, self.sampling.size)
            for i, s in enumerate(sizes)
        ]

    def _grid(self, shape: tuple[int, ...]) -> PlaneGrid:
        rows, columns = shape
        steps = (round(self.coded.width / columns), round(self.coded.height / rows))
        return PlaneGrid.of((rows, columns), steps, self.coded, self.sampling.size)
