"""The camera path: what is solved, and what everything after it is made from."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.geometry.tilt import tilt_matrices
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.path.borrowing import Borrowing
from keen_horizon.core.path.window import centred_corners, gap_areas, kept_areas
from keen_horizon.core.treatment.edges import Window

Floats = NDArray[np.float64]

UNTOUCHED = Window()


@dataclass(frozen=True, kw_only=True)
class CameraPath:
    """The steadied path of N frames from clip number `first`, centred coordinates (see `window`).

    A frame's correction, src_from_out, is the similarity S, a `stretch` (N, 2, 2) where the camera was turned
    behind a lens, a tilt, the window shrunk by `shrink`, and the window's nudge by hand:

        S stretch U(tilt) nudge / shrink.

    `wanted_zoom` (N,) is the enlargement a frame would need if no limit held; `measured` and `steadied` are the
    poses before and after, `measured_tilts` and `steadied_tilts` their perspective; `lenders` the poses that go
    with that perspective. `limited` tells whether the zoom limit changed the path; `borrowed` what frames lend to
    each other, if that was asked for. `region` is what the window may show where that is not the frame; `stage` is
    what lies between the steadied picture and the filmed one, lens and rows.
    """

    size: Size
    first: int
    correction: Similarities
    tilt: Complex
    shrink: Floats
    wanted_zoom: Floats
    measured: Similarities
    steadied: Similarities
    lenders: Similarities
    measured_tilts: Complex
    steadied_tilts: Complex
    limited: bool
    borrowed: Borrowing | None = None
    nudge: Window = UNTOUCHED
    stretch: Floats | None = None
    region: SeenRegion | None = None
    stage: OpticsStage | None = None

    def __len__(self) -> int:
        return len(self.shrink)

    @property
    def last(self) -> int:
        """The clip's number of the last frame."""
        return self.first + len(self) - 1

    @property
    def zoom(self) -> Floats:
        """Enlargement of every frame (N,), in the middle of the picture."""
        return np.asarray(self.shrink * self.nudge.scale / np.abs(self.correction.z))

    def centred_matrices(self) -> Floats:
        """src_from_out (N, 3, 3) on centred points."""
        window = np.zeros((len(self), 3, 3))
        turn = np.exp(1j * np.radians(self.nudge.turn_deg)) / self.nudge.scale
        window[:, 0, 0] = window[:, 1, 1] = turn.real / self.shrink
        window[:, 0, 1], window[:, 1, 0] = -turn.imag / self.shrink, turn.imag / self.shrink
        window[:, 0, 2], window[:, 1, 2] = self.nudge.x / self.shrink, self.nudge.y / self.shrink
        window[:, 2, 2] = 1
        corrected = self.correction.matrices()
        if self.stretch is not None:
            corrected[:, :2, :2] = corrected[:, :2, :2] @ self.stretch
        return corrected @ tilt_matrices(self.tilt, self.size) @ window

    def matrices(self) -> Floats:
        """src_from_out (N, 3, 3) in pixels of the display size."""
        return recentred(self.centred_matrices(), self.size)

    def out_from_src(self) -> Floats:
        """The planar correction as matrices (N, 3, 3) in pixels of the display size."""
        return np.asarray(np.linalg.inv(self.matrices()), np.float64)

    def lending_matrices(self, offset: int) -> Floats:
        """src_from_out (N, 3, 3), display pixels, into the frame `offset` away; meaningless past the ends."""
        other = np.clip(np.arange(len(self)) + offset, 0, len(self) - 1)
        poses, tilts = self.lenders, self.measured_tilts
        apart = tilts - tilts[other] * np.conj(poses.z / poses.z[other])
        between = (poses[other].inverse() @ poses).matrices() @ tilt_matrices(apart, self.size)
        return recentred(between @ self.centred_matrices(), self.size)

    def quads(self) -> Complex:
        """Where the output's corners lie in the source, (N, 4), centred."""
        corners = centred_corners(self.size)
        places = self.centred_matrices() @ np.stack([corners.real, corners.imag, np.ones(4)])
        return np.asarray((places[:, 0] + 1j * places[:, 1]) / places[:, 2])

    @cached_property
    def kept_areas(self) -> Floats:
        """The share (N,) of what each frame shows that the output shows."""
        if self.region is not None:
            return self.region.kept(self.centred_matrices(), self.first)
        return kept_areas(self.quads(), self.size)

    @cached_property
    def gap_areas(self) -> Floats:
        """The share (N,) of each output frame that has no picture of its own frame."""
        if self.region is not None:
            return self.region.gaps(self.centred_matrices(), self.first)
        return gap_areas(self.quads(), self.size)


def recentred(matrices: Floats, size: Size) -> Floats:
    """Matrices (N, 3, 3) on centred points as matrices on pixels of a frame."""
    move = np.array([[1, 0, size.centre.real], [0, 1, size.centre.imag], [0, 0, 1]])
    return np.asarray(move @ matrices @ np.linalg.inv(move))


def _stretch(path: CameraPath) -> Floats:
    return np.tile(np.eye(2), (len(path), 1, 1)) if path.stretch is None else path.stretch


def joined_paths(paths: list[CameraPath]) -> CameraPath:
    """Shots laid end to end."""

    def similarities(parts: list[Similarities]) -> Similarities:
        return Similarities(np.concatenate([p.z for p in parts]), np.concatenate([p.t for p in parts]))

    def borrowed(lender: Borrowing) -> Borrowing:
        """What all shots lend; one that does not move, of a single frame, has all it shows."""
        alone = np.ones((1, lender.reach.shape[1]))
        reaches = [path.borrowed.reach if path.borrowed else np.repeat(alone, len(path), 0) for path in paths]
        return Borrowing(lender.offsets, np.concatenate(reaches))

    lender = next((path.borrowed for path in paths if path.borrowed), None)
    return replace(
        paths[0],
        correction=similarities([path.correction for path in paths]),
        measured=similarities([path.measured for path in paths]),
        steadied=similarities([path.steadied for path in paths]),
        lenders=similarities([path.lenders for path in paths]),
        tilt=np.concatenate([path.tilt for path in paths]),
        shrink=np.concatenate([path.shrink for path in paths]),
        wanted_zoom=np.concatenate([path.wanted_zoom for path in paths]),
        measured_tilts=np.concatenate([path.measured_tilts for path in paths]),
        steadied_tilts=np.concatenate([path.steadied_tilts for path in paths]),
        limited=any(path.limited for path in paths),
        stretch=np.concatenate([_stretch(path) for path in paths]) if any(p.region for p in paths) else None,
        region=next((path.region for path in paths if path.region), None),
        borrowed=borrowed(lender) if lender else None,
    )
