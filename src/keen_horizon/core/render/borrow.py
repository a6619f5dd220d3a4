"""Missing picture at the edges, taken from frames before and after.

Where a frame's own picture ends within the feather, other frames are laid in from the nearest on, each with
a weight that falls to nothing at its own edge, until nothing is wanted any more. Only the strips along the
edges are touched. A frame's brightness is brought to the one it lends to, by what both of them see there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size, transform
from keen_horizon.core.mapping.frame_map import PlaneGrid
from keen_horizon.core.mapping.gaps import room_inside
from keen_horizon.core.mapping.staged import StagedMap, frame_map, lending_map
from keen_horizon.core.media.colour import whole
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.media.stored import Plane
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.render.resample import resampled

Weights = NDArray[np.float32]

ALPHA = 3  # a channel beside Y, U, V
ENOUGH = 0.02
LOOK = 16  # samples between those that are looked at for where the picture is missing
LEAST_OVERLAP = 400
GAIN_RANGE = (0.6, 1.6)


@dataclass(frozen=True)
class Strip:
    """A part of a plane: rows and columns."""

    rows: slice
    columns: slice

    def grid(self, whole: PlaneGrid) -> PlaneGrid:
        """The grid of the part."""
        move = np.array([[1, 0, self.columns.start], [0, 1, self.rows.start], [0, 0, 1]], np.float64)
        shape = (self.rows.stop - self.rows.start, self.columns.stop - self.columns.start)
        return PlaneGrid(shape, whole.display_from_plane @ move)


class Lender:
    """Lays in what other frames show. `frame_at` gives a decoded frame by number, or None where there is none."""

    def __init__(self, path: CameraPath, feather_px: float) -> None:
        assert path.borrowed is not None
        self.feather = max(1.0, feather_px)
        self._maps = [(offset, lending_map(path, offset)) for offset in path.borrowed.offsets]
        self._own = frame_map(path)

    def lay_in(
        self,
        frame: Frame,
        planes: list[Plane],
        targets: list[PlaneGrid],
        sources: list[PlaneGrid],
        frame_at: Callable[[int], Frame | None],
    ) -> tuple[list[Plane], NDArray[np.float32], int]:
        """Planes with what was missing, the share of each luma sample that was lent, and how many found nothing.

        A fourth plane is the coverage, which is lent as luma is.
        """
        out = [plane.copy() for plane in planes]
        lent = np.zeros(targets[0].shape, np.float32)
        missing = 0
        for channels in ((0, ALPHA) if len(planes) > ALPHA else (0,), (1, 2)):
            target, source = targets[channels[0]], sources[channels[0]]
            for strip in self._strips(frame.number, target, source):
                share, lost = self._fill(frame, out, channels, strip, target, source, frame_at)
                if 0 in channels:
                    lent[strip.rows, strip.columns] = np.maximum(lent[strip.rows, strip.columns], share)
                    missing += lost
        return out, lent, missing

    def _strips(self, number: int, target: PlaneGrid, source: PlaneGrid) -> list[Strip]:
        """Along the edges, as wide as the frame's own picture is missing or fading, told by every LOOK-th sample."""
        rows, columns = target.shape
        down, across = (np.append(np.arange(0, side, LOOK), side) for side in (rows, columns))
        x, y = np.meshgrid(across, down)
        samples = np.stack([x.ravel(), y.ravel()], -1).astype(np.float64)
        places = self._own.places(number, transform(target.display_from_plane, samples))
        x, y = transform(np.asarray(np.linalg.inv(source.display_from_plane), np.float64), places).T
        room = room_inside((x.reshape(len(down), -1), y.reshape(len(down), -1)), source, self._own)
        fading = room < self.feather / abs(source.display_from_plane[0, 0])
        # a sample stands for all up to the next ones
        top, low, left, right = _clear_part(cv2.dilate(fading.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0)
        top, low, left, right = int(down[top]), int(down[low]), int(across[left]), int(across[right])
        strips = [
            Strip(slice(0, top), slice(0, columns)), Strip(slice(low, rows), slice(0, columns)),
            Strip(slice(top, low), slice(0, left)), Strip(slice(top, low), slice(right, columns)),
        ]  # fmt: skip
        return [s for s in strips if s.rows.stop > s.rows.start and s.columns.stop > s.columns.start]

    def _fill(
        self,
        frame: Frame,
        out: list[Plane],
        channels: tuple[int, ...],
        strip: Strip,
        target: PlaneGrid,
        source: PlaneGrid,
        frame_at: Callable[[int], Frame | None],
    ) -> tuple[Weights, int]:
        part = strip.grid(target)
        feather = self.feather / abs(source.display_from_plane[0, 0])
        room = room_inside(self._own.plane_maps(frame.number, part, source), source, self._own)
        own = np.clip(room / feather, 0, 1).astype(np.float32)
        wanted = 1 - own
        if wanted.max() < ENOUGH:
            return np.zeros(part.shape, np.float32), 0
        here = [out[channel][strip.rows, strip.columns].astype(np.float32) for channel in channels]
        sums = [np.zeros(part.shape, np.float32) for _ in channels]
        for offset, through in self._maps:
            other = frame_at(frame.number + offset)
            if other is None:
                continue
            share, values = self._lent(frame, other, channels, through, part, source, wanted, room, here, feather)
            if share is None:
                continue
            for total, value in zip(sums, values, strict=True):
                total += share * value
            wanted = wanted - share
            if wanted.max() < ENOUGH:
                break
        lent = 1 - own - wanted
        found = np.maximum(own + lent, 1e-6)
        blank = (room < -0.01) & (lent < ENOUGH)
        for channel, value, total in zip(channels, here, sums, strict=True):
            mixed = np.where(blank, value, (own * value + total) / found)
            out[channel][strip.rows, strip.columns] = whole(mixed, frame.bit_depth)
        return lent, int(blank.sum())

    def _lent(
        self,
        frame: Frame,
        other: Frame,
        channels: tuple[int, ...],
        through: StagedMap,
        part: PlaneGrid,
        source: PlaneGrid,
        wanted: Weights,
        room: Weights,
        here: list[Weights],
        feather: float,
    ) -> tuple[Weights | None, list[Weights]]:
        lent = through.plane_map(frame.number, part, source)
        there = room_inside(lent.whole, source, through)
        share = wanted * np.clip((there - 1) / feather, 0, 1).astype(np.float32)
        if share.max() < ENOUGH:
            return None, []
        values = resampled([_plane(other, c) for c in channels], lent, cv2.BORDER_REPLICATE)
        both = (room > 1) & (there > 1)
        matched = [
            value if channel == ALPHA else _matched(value, now, both, channel == 0, frame.bit_depth)
            for channel, value, now in zip(channels, values, here, strict=True)
        ]
        return share, matched


def _clear_part(marked: NDArray[np.bool_]) -> tuple[int, int, int, int]:
    """Rows and columns, first and last each, of a part without marks, peeled free side by side, the worst one first.

    Both last ones are the first ones where nothing is clear.
    """
    top, low, left, right = 0, marked.shape[0] - 1, 0, marked.shape[1] - 1
    while top < low and left < right:
        part = marked[top : low + 1, left : right + 1]
        if not part.any():
            break
        worst = int(np.argmax([part[0].mean(), part[-1].mean(), part[:, 0].mean(), part[:, -1].mean()]))
        top, low, left, right = top + (worst == 0), low - (worst == 1), left + (worst == 2), right - (worst == 3)
    return top, low, left, right


def _plane(frame: Frame, channel: int) -> Plane:
    return frame.coverage if channel == ALPHA else frame.planes[channel]


def _matched(value: Weights, here: Weights, both: NDArray[np.bool_], luma: bool, depth: int) -> Weights:
    """`value` in the exposure of `here`: a gain for luma, a shift for chroma, from where both see something."""
    if int(both.sum()) < LEAST_OVERLAP:
        return value
    now, then = float(here[both].mean()), float(value[both].mean())
    if not luma:
        return value + np.float32(now - then)
    black = 16 << (depth - 8)
    gain = np.clip((now - black) / max(1.0, then - black), *GAIN_RANGE)
    return np.asarray((value - black) * np.float32(gain) + black)


def lending_frames(size: Size, depth: int, budget: int = 900 << 20) -> int:
    """How many decoded frames of a size may be kept at once."""
    return max(8, budget // (size.width * size.height * (3 if depth > 8 else 2)))
