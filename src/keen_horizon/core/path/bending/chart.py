"""Between the source picture and the picture of the steadied camera: a place's way through a path's
homographies and optics.

The steadied picture is bent by the same lens again, so that its places lie about as densely.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.nowhere import NOWHERE, is_nowhere
from keen_horizon.core.lately import kept_lately
from keen_horizon.core.lens.over_time import OpticsStage
from keen_horizon.core.lens.stage import LensStage
from keen_horizon.core.path.camera_path import CameraPath, recentred
from keen_horizon.core.path.trajectory import homographies_between

Floats = NDArray[np.float64]
LEAST_DEPTH = 1e-3  # of a place that a homography carries: what lies further was not seen


@dataclass(frozen=True, eq=False)
class Onward:
    """From every frame from clip number `first` to the next: `steps` (N, 3, 3), px of the flat picture, behind a
    `stage`, None where there is none.
    """

    first: int
    steps: Floats
    stage: OpticsStage | None

    compared_by_value: ClassVar[bool] = True  # see core.lately

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Onward):
            return NotImplemented
        same = self.first == other.first and self.stage is other.stage
        return same and np.array_equal(self.steps, other.steps)

    def places(self, place: NDArray[np.intp], points: Floats) -> Floats:
        """Where source points (P, 2) of frames `place` (P,), counted from the first, are awaited in the next frame."""
        flat = _carried(self.steps, place, _flat(self.stage, place + self.first, points))
        return _source(self.stage, place + 1 + self.first, flat)


@dataclass(frozen=True)
class Chart:
    """The source and the steadied picture over N frames from clip number `first`: `homographies` (N, 3, 3) lead from
    the steadied to the measured camera, px of the flat picture. Seen through a `stage`, the steadied picture is bent by
    it again, so that its places lie as densely as the source's.
    """

    first: int
    homographies: Floats
    stage: OpticsStage | None

    @staticmethod
    def of(path: CameraPath) -> Chart:
        """That of a path."""
        return Chart(path.first, recentred(path.homographies, path.size), _stage(path))

    def source(self, place: int, points: Floats) -> Floats:
        """Places (P, 2) of the steadied picture in the source of a frame, counted from the first."""
        return self._through(place, points, self.homographies[place], turned=False)

    def steadied(self, place: int, points: Floats) -> Floats:
        """The reverse of `source`."""
        return self._through(place, points, np.linalg.inv(self.homographies[place]), turned=True)

    def _through(self, place: int, points: Floats, homography: Floats, turned: bool) -> Floats:
        """Out of one picture, over the homography, into the other: the rows' motion is the source's alone."""
        stage, still = self.stage, self.stage and replace(self.stage, rows=None)
        before, after = (stage, still) if turned else (still, stage)
        places = np.full(len(points), place)
        flat = _carried(homography[None], np.zeros_like(places), _flat(before, places + self.first, points))
        return _source(after, places + self.first, flat)


def onward(path: CameraPath) -> Onward:
    """How the measured camera of a path goes on from frame to frame."""
    steps = homographies_between(path.measured, path.measured, 1)
    return Onward(path.first, recentred(steps, path.size), _stage(path))


def _stage(path: CameraPath) -> OpticsStage | None:
    return path.stage and _unprojected(path.stage)


@kept_lately
def _unprojected(stage: OpticsStage) -> OpticsStage:
    """A stage with the flat picture for what is delivered; the very same for the same."""
    return stage.unprojected()


def _flat(stage: OpticsStage | None, frames: NDArray[np.intp], points: Floats) -> Floats:
    return points if stage is None else stage.each(frames, points, LensStage.straighten)


def _source(stage: OpticsStage | None, frames: NDArray[np.intp], points: Floats) -> Floats:
    if stage is None:
        return points
    far = is_nowhere(points)
    found = stage.each(frames, np.where(far[:, None], 0.0, points), LensStage.points)
    return np.where(far[:, None], NOWHERE, found)


def _carried(homographies: Floats, place: NDArray[np.intp], points: Floats) -> Floats:
    """Points (P, 2), each by the homography of its own frame; nowhere what goes behind or was so."""
    far = is_nowhere(points)
    whole = np.column_stack([np.where(far[:, None], 0.0, points), np.ones(len(points))])
    across, down, depth = np.einsum("pij,pj->ip", homographies[place], whole)
    far |= depth < LEAST_DEPTH
    depth = np.where(far, 1.0, depth)
    found = np.stack([across / depth, down / depth], -1)
    return np.where(far[:, None], NOWHERE, found)
