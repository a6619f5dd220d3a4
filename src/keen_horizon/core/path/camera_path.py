"""The camera path: what is solved, and what everything after it is made from."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.homography_parts import HomographyParts, parted, sizes_of
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Complex, Similarities
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.region import SeenRegion
from keen_horizon.core.path.bending.bent import Bending
from keen_horizon.core.path.borrowing import Borrowing
from keen_horizon.core.path.trajectory import Trajectory, homographies_between, joined_trajectories
from keen_horizon.core.path.window import centred_corners, gap_areas, kept_areas
from keen_horizon.core.treatment.edges import Window

Floats = NDArray[np.float64]

UNTOUCHED = Window()


@dataclass(frozen=True, kw_only=True)
class CameraPath:
    """The steadied path of N frames from clip number `first`: where the camera was `measured`, where it is `steadied`
    to, and the window on what it then shows, shrunk by `shrink` (N,) and nudged by hand.

    `middle` is where the window's own middle lies, px from the frame's, where it is moved to hide dead edges.

    `wanted_zoom` (N,) is the enlargement a frame would need if no limit held; `limited` tells whether the zoom limit
    changed the path; `borrowed` what frames lend to each other, if that was asked for. `region` is what the window may
    show where that is not the frame; `stage` is what lies between the steadied picture and the filmed one, lens and
    rows. Where the delivered picture is projected and the camera turned, turning comes after the projection.
    `bending` is a mesh that moves what all that leaves apart, where that is wanted.
    """

    size: Size
    first: int
    measured: Trajectory
    steadied: Trajectory
    shrink: Floats
    wanted_zoom: Floats
    limited: bool
    middle: Complex | complex = 0j
    borrowed: Borrowing | None = None
    nudge: Window = UNTOUCHED
    region: SeenRegion | None = None
    stage: OpticsStage | None = None
    bending: Bending | None = None

    def __len__(self) -> int:
        return len(self.shrink)

    @property
    def last(self) -> int:
        """The clip's number of the last frame."""
        return self.first + len(self) - 1

    @property
    def zoom(self) -> Floats:
        """Enlargement of every frame (N,), in the middle of the picture."""
        return np.asarray(self.shrink * self.nudge.scale / sizes_of(self.homographies))

    @cached_property
    def homographies(self) -> Floats:
        """The correction (N, 3, 3), steadied to measured camera, px from the middle of the flat picture."""
        return homographies_between(self.steadied, self.measured)

    @cached_property
    def _parts(self) -> HomographyParts:
        return parted(self.homographies, self.size)

    @property
    def correction(self) -> Similarities:
        """What the correction does but for a stretch and a tilt (N,)."""
        return self._parts.correction

    @property
    def tilt(self) -> Complex:
        """The tilts (N,) that the correction takes out."""
        return self._parts.tilt

    @property
    def turned(self) -> bool:
        """Whether the camera was turned behind a lens whose angles are known."""
        return self.measured.rays_from_px is not None

    @property
    def projected(self) -> bool:
        """Whether the delivered picture is projected after the camera was turned."""
        return self.region is not None and self.region.projected

    def lent_homographies(self, offset: int) -> Floats:
        """Homographies (N, 3, 3) from the steadied camera into the frame `offset` away; meaningless past the ends."""
        return homographies_between(self.measured, self.measured, offset) @ self.homographies

    def windows(self) -> Floats:
        """The window (N, 3, 3) on px from the middle of the delivered picture."""
        window = np.zeros((len(self), 3, 3))
        turn = np.exp(1j * np.radians(self.nudge.turn_deg)) / self.nudge.scale
        window[:, 0, 0] = window[:, 1, 1] = turn.real / self.shrink
        window[:, 0, 1], window[:, 1, 0] = -turn.imag / self.shrink, turn.imag / self.shrink
        middle = np.asarray(self.middle, np.complex128)
        window[:, 0, 2] = self.nudge.x / self.shrink + middle.real
        window[:, 1, 2] = self.nudge.y / self.shrink + middle.imag
        window[:, 2, 2] = 1
        return window

    def centred_matrices(self) -> Floats:
        """src_from_out (N, 3, 3) on px from the middle: correction and window, on the flat picture."""
        return self.homographies @ self.windows()

    def matrices(self) -> Floats:
        """src_from_out (N, 3, 3) in pixels of the display size, on the flat picture."""
        return recentred(self.centred_matrices(), self.size)

    def out_from_src(self) -> Floats:
        """The planar correction as matrices (N, 3, 3) in pixels of the display size."""
        return np.asarray(np.linalg.inv(self.matrices()), np.float64)

    def quads(self) -> Complex:
        """Where the output's corners lie in the source, (N, 4), centred."""
        corners = centred_corners(self.size)
        places = self.centred_matrices() @ np.stack([corners.real, corners.imag, np.ones(4)])
        return np.asarray((places[:, 0] + 1j * places[:, 1]) / places[:, 2])

    @cached_property
    def kept_areas(self) -> Floats:
        """The share (N,) of what each frame shows that the output shows."""
        if self.region is not None:
            return self.region.kept(self.homographies, self.first, self.windows())
        return kept_areas(self.quads(), self.size)

    @cached_property
    def gap_areas(self) -> Floats:
        """The share (N,) of each output frame that has no picture of its own frame."""
        if self.region is not None:
            return self.region.gaps(self.homographies, self.first, self.windows())
        return gap_areas(self.quads(), self.size)


def recentred(matrices: Floats, size: Size) -> Floats:
    """Matrices (N, 3, 3) on centred points as matrices on pixels of a frame."""
    move = np.array([[1, 0, size.centre.real], [0, 1, size.centre.imag], [0, 0, 1]])
    return np.asarray(move @ matrices @ np.linalg.inv(move))


def joined_paths(paths: list[CameraPath]) -> CameraPath:
    """Shots laid end to end."""

    def borrowed(lender: Borrowing) -> Borrowing:
        """What all shots lend; one that does not move, of a single frame, has all it shows."""
        alone = np.ones((1, lender.reach.shape[1]))
        reaches = [path.borrowed.reach if path.borrowed else np.repeat(alone, len(path), 0) for path in paths]
        return Borrowing(lender.offsets, np.concatenate(reaches))

    lender = next((path.borrowed for path in paths if path.borrowed), None)
    return replace(
        paths[0],
        measured=joined_trajectories([path.measured for path in paths]),
        steadied=joined_trajectories([path.steadied for path in paths]),
        shrink=np.concatenate([path.shrink for path in paths]),
        wanted_zoom=np.concatenate([path.wanted_zoom for path in paths]),
        middle=np.concatenate([np.broadcast_to(path.middle, len(path)) for path in paths]),
        limited=any(path.limited for path in paths),
        region=next((path.region for path in paths if path.region), None),
        borrowed=borrowed(lender) if lender else None,
    )
