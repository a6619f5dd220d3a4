"""Where a camera stood over the frames of a range, as it was measured or as it is steadied.

One form for both charts. Where no focal length is known a ray is (x, y, 1) in px from the middle, and a frame's matrix
a similarity with a tilt; behind a lens whose angles are known rays are directions, and the matrix is a rotation.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Complex, Similarities

Floats = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class Trajectory:
    """A camera over N frames: `matrices` (N, 3, 3) reference_from_camera, on rays.

    `rays_from_px` (N, 3, 3) takes px from the middle of the flat straightened picture to rays; None where they are the
    same. `growth` (N,) is the logarithm of how large, about the middle, the reference shows what the frame shows, as
    far as the matrices do not say it. `poses` and `tilts` (N,) are what all this is in the middle of the picture, for
    figures and curves.
    """

    matrices: Floats
    poses: Similarities
    tilts: Complex
    growth: Floats
    rays_from_px: Floats | None = None

    def __len__(self) -> int:
        return len(self.matrices)

    def from_px(self) -> Floats:
        """reference_from_px (N, 3, 3): px from the middle of a frame's flat picture, its growth left out."""
        return self.matrices if self.rays_from_px is None else self.matrices @ self.rays_from_px


def homographies_between(shown: Trajectory, seen: Trajectory, offset: int = 0) -> Floats:
    """From px of the frames that one camera shows to px of those that another saw, `offset` frames away (N, 3, 3).

    Both are px from the middle of the flat picture; the last figure is 1. Past the ends of the range a frame's is that
    of the end.
    """
    other = np.clip(np.arange(len(shown)) + offset, 0, len(shown) - 1)
    there = seen.from_px()[other]
    homographies = np.linalg.solve(there, shown.from_px())
    same = (there == shown.from_px()).all((1, 2))
    homographies[same] = np.eye(3)
    homographies[:, :, :2] *= np.exp(shown.growth - seen.growth[other])[:, None, None]
    return np.asarray(homographies / homographies[:, 2:, 2:])


def joined_trajectories(parts: Sequence[Trajectory]) -> Trajectory:
    """Those of shots, end to end; all in one chart."""
    rays = [part.rays_from_px for part in parts if part.rays_from_px is not None]
    return Trajectory(
        matrices=np.concatenate([part.matrices for part in parts]),
        poses=Similarities(
            np.concatenate([part.poses.z for part in parts]), np.concatenate([part.poses.t for part in parts])
        ),
        tilts=np.concatenate([part.tilts for part in parts]),
        growth=np.concatenate([part.growth for part in parts]),
        rays_from_px=np.concatenate(rays) if rays else None,
    )
