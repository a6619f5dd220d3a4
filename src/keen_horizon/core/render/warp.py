"""Resampling stored planes through the frame map, and sharpening what was enlarged.

Luma and chroma are warped as they are stored, at native depth: no conversion of colour, one
interpolation (cubic). Where the map leaves the source, the gap colour stands, given in the source's own
matrix and range so that it needs no conversion either.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size, resized
from keen_horizon.core.mapping.frame_map import Maps, PlaneGrid, PlaneMap
from keen_horizon.core.mapping.gaps import TOLERANCE_PX, border_overhang, gap_mask, room_before_dead
from keen_horizon.core.mapping.light import falloff_at, fringe_at, haze_of
from keen_horizon.core.mapping.output import OutputFrame
from keen_horizon.core.mapping.staged import frame_map
from keen_horizon.core.media.chroma import WrittenChroma
from keen_horizon.core.media.colour import values_of, whole
from keen_horizon.core.media.encode import chroma_size
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.render.align import Aligner, Beyond, aligner_of, standing_map
from keen_horizon.core.render.borrow import Lender
from keen_horizon.core.render.clear import cleared
from keen_horizon.core.render.lift import Lifter, lifter_of
from keen_horizon.core.render.resample import resampled
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import Optics

SHARPEN_SIGMA = 1.0
FEW = 4  # frames whose glass is at hand


@dataclass(frozen=True)
class Warped:
    """Planes of one output frame, how many of its luma samples had no picture, the share of each luma sample that
    other frames lent, where frames lend, and the coverage, where it is kept.
    """

    planes: tuple[Plane, ...]
    gap_pixels: int
    lent: NDArray[np.float32] | None = None
    alpha: Plane | None = None


def coverage_of(warped: Warped, depth: int) -> Plane:
    """A warped frame's coverage; all of it where none was kept."""
    return np.full_like(warped.planes[0], (1 << depth) - 1) if warped.alpha is None else warped.alpha


Lifting = Callable[[int], Lifter | None]
Aligning = Callable[[int], Aligner | None]


def alone(number: int) -> Frame | None:
    """No other frame is at hand."""
    return None


class Warper:
    """Warps frames of one clip, stored at size `coded`, into `output` with a `chroma` layout."""

    def __init__(
        self,
        path: CameraPath,
        coded: Size,
        output: OutputFrame,
        chroma: WrittenChroma,
        treatment: Treatment,
        alpha: bool = False,
    ) -> None:
        """With `alpha` the coverage is kept, and gaps are clear."""
        self.alpha = alpha
        edges = treatment.edges
        self.map, self.coded, self.output, self.chroma = frame_map(path), coded, output, chroma
        self.gap_colour, self.sharpen = edges.gap_colour, edges.sharpen
        self.gaps_allowed = treatment.gaps_wanted or not edges.window.untouched
        self.lender = Lender(path, edges.borrow.feather_px) if path.borrowed else None
        self.reach = max(map(abs, path.borrowed.offsets)) if path.borrowed else 0
        self._lifter, self._aligner = _glass_over(treatment.optics, path.size, coded)
        self.haze = haze_of(treatment.optics.fringe)
        self._lent: dict[int, Frame] = {}
        self._display_from_coded = resized(path.size, coded)

    def warp(self, frame: Frame, frame_at: Callable[[int], Frame | None] = alone) -> Warped:
        """One frame through the map of its number; `frame_at` gives other frames, for borrowing."""
        lifter, aligner = self._lifter(frame.number), self._aligner(frame.number)
        if lifter is not None:
            frame = lifter.lifted(frame)
        targets = self._targets(frame.tags.site)
        sources = [self._grid(plane.shape, frame.tags.site) for plane in frame.planes]
        touched = aligner is not None or self.haze is not None or self.sharpen or self.map.dead is not None
        if not touched and self._unmoved(frame.number, targets, sources):
            return Warped(frame.planes, 0, alpha=frame.alpha)
        maps = [self.map.plane_map(frame.number, targets[i], sources[i]) for i in (0, 1)]  # V's is U's
        gaps = 0
        if border_overhang(self.map, frame.number) > TOLERANCE_PX:
            gaps = int(gap_mask(maps[0].whole, sources[0], self.map).sum())
        alpha = self._coverage(frame, maps[0].whole, sources[0]) if self.alpha else None
        planes = self._resampled(frame, (maps[0], maps[1]), sources, self.chroma.site(frame.tags.site))
        if gaps and self.gaps_allowed and self.map.dead is not None:
            whole_maps = [part.whole for part in maps]
            planes = [self._laid_bare(frame, plane, i, whole_maps, sources) for i, plane in enumerate(planes)]
        lent = None
        if self.lender and gaps:
            covered = [alpha] if alpha is not None else []
            at = self._lending(frame_at, frame.number)
            planes, lent, gaps = self.lender.lay_in(frame, planes + covered, targets, sources, at)
            alpha = planes.pop() if covered else None
        if self.haze is not None:
            written = replace(frame.tags, site=self.chroma.site(frame.tags.site))
            planes = cleared(planes, self.haze, frame.bit_depth, written)
        if self.sharpen:
            planes[0] = sharpened(planes[0], self.sharpen, frame.bit_depth)
        return Warped(tuple(planes), gaps, lent, alpha)

    def _unmoved(self, number: int, targets: list[PlaneGrid], sources: list[PlaneGrid]) -> bool:
        """Whether every sample of the output is one of the source."""
        matrix = self.map.matrix(number)
        same = all(t.same_as(s) for t, s in zip(targets, sources, strict=True))
        return same and matrix is not None and np.allclose(matrix, np.eye(3), atol=1e-9)

    def _resampled(
        self, frame: Frame, maps: tuple[PlaneMap, PlaneMap], sources: list[PlaneGrid], site: int
    ) -> list[Plane]:
        """Y, U, V where maps of luma and of chroma say, chroma at its new `site`."""
        fill = values_of(self.gap_colour, frame.bit_depth, frame.tags)
        border = cv2.BORDER_CONSTANT if self.gaps_allowed else cv2.BORDER_REPLICATE
        aligner = self._aligner(frame.number)
        if aligner is not None:
            return aligner.resampled(frame, maps, sources, Beyond(border, fill), site=site)
        luma = resampled(frame.planes[:1], maps[0], border, fill[:1])
        chroma = resampled(frame.planes[1:], maps[1], border, fill[1:])
        return [whole(plane, frame.bit_depth) for plane in luma + chroma]

    def _laid_bare(self, frame: Frame, plane: Plane, channel: int, maps: list[Maps], sources: list[PlaneGrid]) -> Plane:
        """A plane with the gap's colour where its picture is dead, softened over a sample as interpolation does."""
        at = min(channel, 1)
        seen = np.clip(room_before_dead(maps[at], sources[at], self.map) + 0.5, 0, 1)
        colour = np.float32(values_of(self.gap_colour, frame.bit_depth, frame.tags)[channel])
        return np.rint(colour + (plane - colour) * seen).astype(plane.dtype)

    def _lending(self, frame_at: Callable[[int], Frame | None], number: int) -> Callable[[int], Frame | None]:
        """`frame_at` with its frames lifted and their colours laid back; those near `number` are kept for the next."""
        if self._lifter(number) is None and self._aligner(number) is None:
            return frame_at
        self._lent = {other: lent for other, lent in self._lent.items() if abs(other - number) <= self.reach}

        def at(other: int) -> Frame | None:
            if other not in self._lent:
                frame = frame_at(other)
                if frame is None:
                    return None
                self._lent[other] = self._undone(frame)
            return self._lent[other]

        return at

    def _undone(self, frame: Frame) -> Frame:
        """A frame as it would be without the glass's light and colours, as far as they are undone."""
        lifter = self._lifter(frame.number)
        if lifter is not None:
            frame = lifter.lifted(frame)
        if self._aligner(frame.number) is not None:
            sources = [self._grid(plane.shape, frame.tags.site) for plane in frame.planes]
            standing = standing_map(sources[0].shape), standing_map(sources[1].shape)
            frame = replace(frame, planes=tuple(self._resampled(frame, standing, sources, frame.tags.site)))
        return frame

    def _coverage(self, frame: Frame, maps: Maps, source: PlaneGrid) -> Plane | None:
        """How much the picture covers each sample: as stored, and nothing where the map leaves the source.

        None where a picture without coverage of its own is seen everywhere.
        """
        if frame.alpha is None and not self.gaps_allowed:
            return None
        border = cv2.BORDER_CONSTANT if self.gaps_allowed else cv2.BORDER_REPLICATE
        out = cv2.remap(frame.coverage, *maps, interpolation=cv2.INTER_LINEAR, borderMode=border, borderValue=0.0)
        if self.gaps_allowed and self.map.dead is not None:
            seen = np.clip(room_before_dead(maps, source, self.map) + 0.5, 0, 1)
            out = np.rint(out * seen).astype(out.dtype)
        return np.asarray(out)

    def _targets(self, site: int) -> list[PlaneGrid]:
        size = self.output.size
        sizes = [size] + [chroma_size(size, self.chroma.layout)] * 2
        steps = [(1, 1)] + [self.chroma.steps] * 2
        written = self.chroma.site(site)
        return [
            PlaneGrid.of((s.height, s.width), apart, self.output.display_from_output, written)
            for s, apart in zip(sizes, steps, strict=True)
        ]

    def _grid(self, shape: tuple[int, ...], site: int) -> PlaneGrid:
        rows, columns = shape
        steps = (round(self.coded.width / columns), round(self.coded.height / rows))
        return PlaneGrid.of((rows, columns), steps, self._display_from_coded, site)


def _glass_over(optics: Optics, size: Size, coded: Size) -> tuple[Lifting, Aligning]:
    """What undoes light and colours of frames by their numbers: one for all, or each frame's own where it changes."""
    falloff, fringe = optics.falloff, optics.fringe

    def lifter(number: int) -> Lifter | None:
        return lifter_of(falloff and falloff_at(falloff, number), size, coded)

    def aligner(number: int) -> Aligner | None:
        return aligner_of(fringe and fringe_at(fringe, number), size)

    one_lifter, one_aligner = lifter(0), aligner(0)
    return (
        lru_cache(FEW)(lifter) if falloff and falloff.keys else lambda number: one_lifter,
        lru_cache(FEW)(aligner) if fringe and fringe.keys else lambda number: one_aligner,
    )


def sharpened(plane: Plane, amount: float, depth: int) -> Plane:
    """Unsharp masking: the plane plus `amount` times its difference from its blur of SHARPEN_SIGMA px."""
    values = plane.astype(np.float32)
    soft = cv2.GaussianBlur(values, (0, 0), SHARPEN_SIGMA)
    return whole(values + amount * (values - soft), depth)


def suggested_sharpening(enlargement: float) -> float:
    """The amount that lifts detail at a quarter of the sampling rate as far as enlarging lowered its frequency."""
    response = 1 - float(np.exp(-2 * (np.pi * SHARPEN_SIGMA * 0.25) ** 2))
    return round(max(0.0, enlargement - 1) / response, 2)
