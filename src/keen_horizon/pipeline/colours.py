"""What edges of frames all over a range show of how colours lie apart, at places where its motion says they are."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.colour_edges import Blocks, ColourEdges, Where, joined
from keen_horizon.core.finding.dead import FoundDead
from keen_horizon.core.finding.fringe import NOT_TOLD, OF_FULL_HD, SURE, FoundFringe, measured_fringe
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.glass.fringe import Fringe
from keen_horizon.core.media.colour import colours_where_chroma_is
from keen_horizon.core.media.frames import Frame
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.pipeline.chosen import spread_over_shot

FRAMES = 16  # at most, all over the range
CELLS = 40  # of the scene, across the frame: 48 px of 1080p each
WIDEST = 1920  # samples of larger pictures are averaged: edges tell no more there
SURE_OF_ALL = 0.12 * OF_FULL_HD  # in place of SURE where chroma is as fine as luma
ALL_OF_IT = 0.999  # of the samples that became one
SPREAD = 2  # frames that motion is taken over


class Looks:
    """Edges of frames, and where they lie in the scene."""

    def __init__(self) -> None:
        self._looks: list[tuple[ColourEdges, Where]] = []
        self._fine = False

    def take(self, index: int, frame: Frame, where: Callable[[NDArray[np.complex128]], Where]) -> None:
        """The edges of a frame, the `index`th; `where` tells of places, half-diagonals from its middle."""
        self._fine = frame.planes[1].shape == frame.luma.shape
        colours, usable = colours_where_chroma_is(frame.planes, frame.bit_depth, frame.tags)
        edges = ColourEdges(index, *_narrowed(colours, usable))
        if len(edges.places):
            self._looks.append((edges, where(edges.places)))

    def found(self, size: Size, dead: FoundDead | None = None) -> FoundFringe:
        """What the edges of frames of a size told, but for those where no light arrives, or less."""
        if not self._looks:
            return NOT_TOLD
        with ThreadPoolExecutor() as threads:

            def behind(fringe: Fringe) -> Blocks:
                found = threads.map(lambda look: look[0].shifts(look[1], fringe), self._looks)
                blocks = joined([blocks for of_frame in found for blocks in of_frame])
                return blocks if dead is None else blocks.only(dead.clear(blocks.where.places))

            return measured_fringe(behind, size.width / size.height, SURE_OF_ALL if self._fine else SURE)


class ColoursLook:
    """How colours lie apart."""

    def __init__(self, measurement: Measurement) -> None:
        self.wanted = spread_over_shot(measurement, FRAMES)
        self._measurement, self._looks = measurement, Looks()

    def see(self, index: int, frame: Frame) -> None:
        """Take a frame's edges."""
        self._looks.take(index, frame, partial(_where, self._measurement, int(self.wanted[index])))

    def found(self, dead: FoundDead | None = None) -> FoundFringe:
        """What the edges told, but for those where no light arrives."""
        return self._looks.found(self._measurement.size, dead)


def told_fringe(name: str, found: FoundFringe, half_diagonal: float, enough: bool | None = None) -> str:
    """What there is to say of measured fringes of the clip `name`, px.

    Raises LensError where it does not tell `enough`, which the finding says unless something else is asked for.
    """
    red, blue = found.fringe.at_corner(half_diagonal)
    off = [half_diagonal * doubt for doubt in found.doubts]
    if not (found.enough if enough is None else enough):
        raise LensError(
            f"{name}: it does not tell how far its colours lie apart: at the corners red is known within "
            f"{off[0]:.2f} px and blue within {off[1]:.2f} px only. Film sharp edges all over the picture, less "
            "compressed, or set the fringes by hand."
        )
    names = ("s of red", "c of red", "s of blue", "c of blue", "centre_x", "centre_y")
    told = ", ".join(f"{figure} ± {error:.5f}" for figure, error in zip(names, found.errors, strict=True))
    lie = f"red lies {red:+.2f} ± {off[0]:.2f} px outwards of green, blue {blue:+.2f} ± {off[1]:.2f} px"
    return f"At the corners {lie}: {told}."


def _narrowed(colours: NDArray[np.float32], usable: NDArray[np.bool_]) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """The same, no wider than WIDEST."""
    rows, columns = usable.shape
    if columns <= WIDEST:
        return colours, usable
    size = (WIDEST, round(rows * WIDEST / columns))
    smaller = np.stack([cv2.resize(colour, size, interpolation=cv2.INTER_AREA) for colour in colours])
    return smaller, cv2.resize(usable.astype(np.float32), size, interpolation=cv2.INTER_AREA) > ALL_OF_IT


def _where(measurement: Measurement, index: int, places: NDArray[np.complex128]) -> Where:
    """Where places of a frame, half-diagonals from its middle, lie in the scene, and how they move."""
    size, poses = measurement.size, measurement.poses
    half = size.half_diagonal
    scene = poses[np.array([index])].apply(places * half + size.centre)[0]
    side = size.width / CELLS
    column, row = np.floor(scene.real / side).astype(np.intp), np.floor(scene.imag / side).astype(np.intp)
    later = min(index + 1, len(measurement) - 1)
    before = max(0, later - SPREAD)
    there, then = (poses[np.array([i])].inverse().apply(scene)[0] for i in (later, before))
    return Where(places, (there - then) / half / max(1, later - before), numbered(column, row))


def numbered(column: NDArray[np.intp], row: NDArray[np.intp]) -> NDArray[np.intp]:
    """One number for every cell, wherever it lies (Cantor's pairing of two folded to counts)."""
    x, y = (np.where(part < 0, -2 * part - 1, 2 * part) for part in (column, row))
    return np.asarray((x + y) * (x + y + 1) // 2 + y)
