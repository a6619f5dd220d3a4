"""The path of a camera that sees all around: rotations, so nothing is cropped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.camera import Camera
from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.path.sphere.outlook import Outlooks

Floats = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class SpherePath:
    """N frames from clip number `first`: where the camera was `measured` and where it is `steadied` to, rotations (N,)
    reference_from_camera, and what is looked at: `outlooks`, or all of it where there are none, turned by `ahead` (N,).
    `size` is delivered. `read_turns` (N, 3) are how far the camera turned while a frame's rows were read, rad about its
    own axes: that is undone.
    """

    sphere: Sphere
    size: Size
    first: int
    measured: Rotation
    steadied: Rotation
    read_turns: Floats
    outlooks: Outlooks | None = None
    ahead: Rotation | None = None
    borrowed: None = None  # nothing is beyond the edge of a sphere

    def __len__(self) -> int:
        return len(self.measured)

    @property
    def last(self) -> int:
        """The clip's number of the last frame."""
        return self.first + len(self) - 1

    def out_camera(self, frame: int) -> Camera:
        """The camera that the delivered picture of a clip's frame would have been taken by."""
        if self.outlooks is None:
            return Sphere(self.size)
        return self.outlooks.camera(frame - self.first)

    def turn(self, frame: int) -> Floats:
        """source_from_out (3, 3): from rays of the delivered picture to the clip's, of a clip's frame."""
        return np.asarray(self.turns[frame - self.first])

    @cached_property
    def turns(self) -> Floats:
        """source_from_out (N, 3, 3) of all frames."""
        out = self.steadied
        if self.outlooks is not None:
            out = out * self.outlooks.rotations
        elif self.ahead is not None:
            out = out * self.ahead
        return np.asarray((self.measured.inv() * out).as_matrix())

    def looks(self) -> Floats | None:
        """Yaw, pitch, roll and width, rad, and roundness (N, 5) of what is looked at; None where nothing but the sphere
        is delivered.
        """
        if self.outlooks is not None:
            return self.outlooks.figures
        if self.ahead is None:
            return None
        return np.column_stack([self.ahead.as_euler("YXZ"), np.full(len(self), 2 * np.pi), np.zeros(len(self))])

    @cached_property
    def source_px(self) -> Floats:
        """How many of the sphere's pixels (N,) an output pixel in the middle stands for: below 1 it is enlarged."""
        if self.outlooks is None:
            return np.full(len(self), self.sphere.px_per_rad / Sphere(self.size).px_per_rad)
        return np.array([self.sphere.px_per_rad / self.outlooks.camera(n).focal for n in range(len(self))])


def joined_spheres(paths: Sequence[SpherePath]) -> SpherePath:
    """Shots laid end to end; the view is the whole range's."""
    measured, steadied = (
        Rotation.concatenate([getattr(path, name) for path in paths]) for name in ("measured", "steadied")
    )
    read_turns = np.concatenate([path.read_turns for path in paths])
    return replace(paths[0], measured=measured, steadied=steadied, read_turns=read_turns)
