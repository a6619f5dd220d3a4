"""What a sphere's path costs and gives: nothing is cropped, so it is turns, and how many pixels a view has."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.glass.shutter import UNKNOWN
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.motion.sphere.subjects import carried_along
from keen_horizon.core.motion.sphere.turns import sphere_turns
from keen_horizon.core.path.notes import lost_notes, readout_told
from keen_horizon.core.path.seen_through import readout_of
from keen_horizon.core.path.sphere.solve import seen_up, turned_shots
from keen_horizon.core.path.sphere.sphere_path import SpherePath
from keen_horizon.core.treatment.document import Treatment

Floats = NDArray[np.float64]

SOFT = 1.0  # source pixels for an output pixel: fewer, and the view is enlarged
CLOSE_DEG = 0.15  # of doubt about where up is: more, and it is said how to be surer; horizons leave 0.11 (a choice)


@dataclass(frozen=True)
class SphereLedger:
    """Shake is how much the camera's turning changes, RMS, degrees per frame squared; `largest_turn_deg` the largest
    correction; `source_px` how many of the sphere's pixels one of the output's stands for, where they are fewest.
    """

    shake_before_deg: float
    shake_after_deg: float
    largest_turn_deg: float
    source_px: float

    def to_json(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return asdict(self)


def sphere_ledger(path: SpherePath) -> SphereLedger:
    """The figures of a whole path."""
    return SphereLedger(
        shake_before_deg=float(np.sqrt((turning_changes(path.measured) ** 2).mean())),
        shake_after_deg=float(np.sqrt((turning_changes(path.steadied) ** 2).mean())),
        largest_turn_deg=float(np.degrees((path.measured.inv() * path.steadied).magnitude()).max()),
        source_px=float(path.source_px.min()),
    )


def turning_changes(rotations: Rotation) -> Floats:
    """How much the turning of a camera (N,) changes at each frame (N,), degrees per frame squared."""
    count = len(rotations)
    if count < 3:
        return np.zeros(count)
    steps = (rotations[1:] * rotations[:-1].inv()).as_rotvec()
    inner = np.degrees(np.linalg.norm(np.diff(steps, axis=0), axis=1))
    return np.concatenate([inner[:1], inner, inner[-1:]])


def sphere_notes(
    measurement: Measurement, treatment: Treatment, path: SpherePath, pins: tuple[PinTrack, ...] = ()
) -> tuple[str, ...]:
    """What an editor should know of a solved sphere, in words."""
    readout = readout_of(treatment.motion, measurement)
    believed = believed_as(measurement, treatment.motion.belief)
    notes = list(measurement_notes(replace(believed, readout=UNKNOWN) if readout else believed))
    if readout:
        notes.insert(0, readout_told(readout, treatment))
    if treatment.motion.intent == "level":
        notes[:0] = [_level_note(believed, treatment), _told_apart(measurement, treatment, path)]
    notes += lost_notes(pins)
    least = sphere_ledger(path).source_px
    if path.outlooks is not None and least < SOFT:
        notes.append(
            f"The view is enlarged up to {1 / least:.1f}x: the sphere has too few pixels for it. "
            "Look wider, or deliver it smaller."
        )
    return tuple(notes)


def _level_note(believed: Measurement, treatment: Treatment) -> str:
    """What the level rests on."""
    told = [shot.upright_by(treatment.motion.level) for shot in turned_shots(believed)]
    least_sure = max(told, key=lambda vertical: vertical.doubt)
    if least_sure.drawn:
        return "Level by the lines that were drawn."
    by = "the horizon" if least_sure.horizon else "upright edges"
    note = f"Level by {by} all around, sure to about {least_sure.doubt:.2f}°."
    if least_sure.doubt > CLOSE_DEG:
        note += " Draw lines along two uprights, a quarter turn apart, to be surer."
    return note


def _told_apart(measurement: Measurement, treatment: Treatment, path: SpherePath) -> str:
    """What a level path corrects: leaning and heading, each by itself."""
    up = seen_up(measurement, treatment)
    assert up is not None
    leaning = np.degrees(np.arccos(np.clip(-up[:, 1], -1, 1)))
    made = (path.steadied.inv() * path.measured).apply([0.0, 0.0, 1.0])
    heading = np.degrees(np.abs(np.arctan2(made[:, 0], made[:, 2])))
    return f"Put upright by up to {leaning.max():.1f}°; its heading turned by up to {heading.max():.1f}°."


def sphere_motion_json(measurement: Measurement) -> dict[str, Any]:
    """The open `motion.json` document of a sphere: where the camera stood at each frame, seen from the first."""
    path_turns = sphere_turns(measurement, sphere_of(measurement.size))
    places = path_turns.rotations.as_quat()
    places *= np.where(places[:, 3:] < 0, -1.0, 1.0)
    return {
        "width": measurement.size.width,
        "height": measurement.size.height,
        "camera": "sphere",
        "frames": [
            {
                "frame": measurement.first + i,
                "time": float(measurement.times[i] - measurement.times[0]),
                "world_from_camera": place.tolist(),
            }
            for i, place in enumerate(places)
        ],
        "subjects": [thing.to_json() for thing in carried_along(measurement)],
    }
