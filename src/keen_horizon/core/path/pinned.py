"""Pinning as holding: poses in which a pinned subject stands still.

One point gives shifts alone. Two points give the similarity that carries both from the first frame of
the shot to each frame, of which only the allowed freedoms are used. Holding these poses holds the
subject; where it stands in the picture is the solver's choice, so that the least is lost over all frames.
Where a point was lost, it is taken to go on evenly through the scene, while the camera shakes as measured.
"""

from __future__ import annotations

import numpy as np

from keen_horizon.core.errors import TreatmentError
from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.carrying import carried
from keen_horizon.core.motion.pin import PinTrack, Trail


def pinned_poses(
    pins: tuple[PinTrack, ...], freedom: tuple[str, ...], first: int, camera: Similarities, size: Size
) -> Similarities:
    """Centred poses subject_from_frame (N,) of the frames from `first` on. Raises TreatmentError without a pin.

    `camera` are the frames' measured centred poses, scene_from_frame (N,).
    """
    if not pins:
        raise TreatmentError("Pin: no point has been followed yet.")
    last = first + len(camera) - 1
    trails = [carried(_centred(pin.part(first, last).trail, size), camera).points for pin in pins]
    anchor = trails[0] if len(trails) == 1 else (trails[0] + trails[1]) / 2
    ratio = np.ones(len(anchor), np.complex128)
    if len(trails) == 2:
        apart = trails[1] - trails[0]
        ratio = apart[0] / apart
        if "size" not in freedom:
            ratio = ratio / np.abs(ratio)
        if "turn" not in freedom:
            ratio = np.abs(ratio).astype(np.complex128)
    return Similarities(ratio, anchor[0] - ratio * anchor)


def _centred(trail: Trail, size: Size) -> Trail:
    return Trail(trail.points - size.centre, trail.confidence)


def pin_freedom(freedom: tuple[str, ...], points: int) -> tuple[str, ...]:
    """What pinning may correct: shifts, and with two points what else is allowed."""
    return tuple(name for name in freedom if name == "shift" or (points == 2 and name != "tilt"))
