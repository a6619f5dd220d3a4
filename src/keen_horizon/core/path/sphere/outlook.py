"""Where a view looks over the frames of a range: its keys, blended.

Between keys a view turns the shortest way round. It goes smoothly, by monotone cubics that never overshoot (Fritsch &
Carlson 1980) and rest at the ends, or straight from a key on, where that asks for it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import Sphere
from keen_horizon.core.cameras.view import ROUNDNESS, Projection, ViewCamera
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.treatment.view import View, ViewKey, widest_deg

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Outlooks:
    """A view of `size` over N frames: `figures` (N, 5) are yaw, pitch, roll and width, rad, and roundness."""

    size: Size
    projection: Projection
    figures: Floats

    @property
    def rotations(self) -> Rotation:
        """steadied_from_view (N,)."""
        return Rotation.from_euler("YXZ", self.figures[:, :3])

    def camera(self, index: int) -> ViewCamera:
        """The camera of a frame, counted from the range's first."""
        _, _, _, field, roundness = self.figures[index].tolist()
        return ViewCamera(self.size, self.projection, field, roundness)


def keyed_outlooks(keys: tuple[ViewKey, ...], frames: NDArray[np.intp], usual: float = 0.0) -> Floats:
    """Yaw, pitch, roll and width, rad, and roundness (N, 5) at frames (N,): the keys blended; straight ahead without
    any, and so round as `usual` where they do not say.
    """
    ordered = sorted(keys, key=lambda key: key.frame) or [ViewKey(frame=0)]
    at = np.array([key.frame for key in ordered], np.float64)
    angles = np.radians([[key.yaw_deg, key.pitch_deg, key.roll_deg, key.field_deg] for key in ordered])
    told = np.column_stack([angles, [usual if key.roundness is None else key.roundness for key in ordered]])
    told[:, [0, 2]] = np.unwrap(told[:, [0, 2]], axis=0)
    told = told.round(9)  # what lies closer together overflows the slopes of cubics
    straight = np.stack([np.interp(frames, at, column) for column in told.T], -1)
    if len(at) < 2:
        return straight
    smooth = _at_rest_outside(at, told, frames)
    part = np.clip(np.searchsorted(at, frames, side="right") - 1, 0, len(at) - 1)
    eased = np.array([key.ease == "smooth" for key in ordered])[part]
    return np.where(eased[:, None], smooth, straight)


def _at_rest_outside(at: Floats, told: Floats, frames: NDArray[np.intp]) -> Floats:
    """Monotone cubics through the keys that stand still before the first and after the last."""
    step = np.diff(at).min()
    longer = np.concatenate([[at[0] - step], at, [at[-1] + step]])
    standing = np.concatenate([told[:1], told, told[-1:]])
    return np.asarray(PchipInterpolator(longer, standing)(np.clip(frames, at[0], at[-1])))


def outlooks_of(view: View, usual: Size, frames: NDArray[np.intp], sphere: Sphere) -> Outlooks | None:
    """The view over frames (N,), `usual` in size where it does not say; None where the sphere itself is delivered."""
    if view.output == "sphere":
        return None
    size = usual if view.size is None else Size(view.size.width, view.size.height)
    figures = keyed_outlooks(view.keys, frames, ROUNDNESS[view.output])
    if view.least_source_px is not None:
        focal = sphere.px_per_rad / view.least_source_px
        narrowest = [ViewCamera.of_focal(size, view.output, focal, round_).field for round_ in figures[:, 4]]
        figures[:, 3] = np.maximum(figures[:, 3], narrowest)
    widest = [widest_deg(view.output, round_) for round_ in figures[:, 4]]
    figures[:, 3] = np.minimum(figures[:, 3], np.radians(widest))
    return Outlooks(size, view.output, figures)
