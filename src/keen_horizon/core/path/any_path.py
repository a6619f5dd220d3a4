"""The path of whatever camera took a clip: of a frame, or of all around."""

from __future__ import annotations

from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.notes import outcome_notes, solution_notes
from keen_horizon.core.path.solve import solve_path
from keen_horizon.core.path.sphere.figures import sphere_notes
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.treatment.document import Treatment

AnyPath = CameraPath | SpherePath


def solve_any(measurement: Measurement, treatment: Treatment, pins: tuple[PinTrack, ...] = ()) -> AnyPath:
    """The path of a measured range. Raises SolveError, TreatmentError."""
    if measurement.sphere:
        return solve_sphere(measurement, treatment, pins)
    return solve_path(measurement, treatment, pins)


def notes_of(
    measurement: Measurement, treatment: Treatment, path: AnyPath, pins: tuple[PinTrack, ...] = ()
) -> tuple[str, ...]:
    """What an editor should know of a solved range, in words."""
    if isinstance(path, SpherePath):
        return sphere_notes(measurement, treatment, path, pins)
    return (*solution_notes(measurement, treatment), *outcome_notes(path, treatment, pins))
