"""Level as poses: each frame turned upright, by what the clip shows or by lines the editor drew.

The clip's own sights give the level of every frame. A drawn line says it exactly on its frame; between
lines the difference is blended, beyond them kept. Where the clip shows nothing, the measured turns carry
the drawn level along; without lines either, such frames stay as they are.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.levels import HORIZON, NOTHING, UPRIGHTS
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.parts import LevelLine

Floats = NDArray[np.float64]

UNSURE = np.radians(1.5)


def level_poses(shot: Measurement, lines: tuple[LevelLine, ...]) -> Similarities:
    """Centred poses level_from_frame (N,): pure turns."""
    angle = level_angles(shot, lines)
    return Similarities(np.exp(-1j * angle), np.zeros(len(angle), np.complex128))


def level_and_rest(
    shot: Measurement, poses: Similarities, lines: tuple[LevelLine, ...]
) -> tuple[Similarities, Similarities]:
    """Poses (N,) level_from_frame of a camera that also moves as centred `poses` (N,), scene_from_frame, do; and where
    each frame would stand were it upright.

    Its steps are those that were measured, each turned by how the scene lies to what is level there: that may drift.
    """
    angle = level_angles(shot, lines)
    size = np.abs(poses.z)
    level_from_scene = np.exp(-1j * angle) * size / poses.z
    between = level_from_scene[:-1] + level_from_scene[1:]
    steps = np.diff(poses.t) * between / np.maximum(np.abs(between), 1e-9)
    places = np.r_[0.0, np.cumsum(steps)]
    upright = Similarities(size.astype(np.complex128), places)
    return Similarities(size * np.exp(-1j * angle), places), upright


def level_angles(shot: Measurement, lines: tuple[LevelLine, ...]) -> Floats:
    """The direction that is level in each frame (N,), radians; 0 where nothing tells it."""
    known = shot.levels.kind != NOTHING
    angle = np.where(known, shot.levels.angle, 0.0)
    drawn = sorted((line for line in lines if 0 <= line.frame - shot.first < len(shot)), key=lambda line: line.frame)
    if not drawn:
        return angle
    if not known.any():
        angle = np.unwrap(np.r_[0.0, np.cumsum(np.angle(shot.pairs.z))])
    at = [line.frame - shot.first for line in drawn]
    wrong = [_nearest_quarter(_direction(line) - angle[i]) for line, i in zip(drawn, at, strict=True)]
    return np.asarray(angle + np.interp(np.arange(len(angle)), at, wrong))


def level_note(measurement: Measurement, lines: tuple[LevelLine, ...]) -> str:
    """What the level rests on, and where nothing tells it, in words."""
    levels = measurement.levels
    unknown = (levels.kind == NOTHING) | (levels.sigma > np.radians(5))
    count = len(lines)
    if count:
        return f"Level by {count} drawn line{'s' if count > 1 else ''}" + (
            "." if unknown.all() else " and the clip's own."
        )
    if unknown.all():
        return "Neither a horizon nor uprights were found. Draw a line along something level or vertical."
    sure = float(np.degrees(np.median(levels.sigma[~unknown])))
    shows = "a horizon" if (levels.kind == HORIZON).sum() > (levels.kind == UPRIGHTS).sum() else "upright edges"
    note = f"Level by {shows}, sure to about {sure:.1f}°."
    if levels.sigma[~unknown].max() > UNSURE:
        note += " Parts are less sure: draw a line there."
    if unknown.any():
        where = measurement.first + np.flatnonzero(unknown)
        note += f" Nothing tells the level in frames {where[0]}-{where[-1]}; they stay as shot."
    return note


def _direction(line: LevelLine) -> float:
    return float(np.arctan2(line.y2 - line.y1, line.x2 - line.x1))


def _nearest_quarter(angle: float) -> float:
    """A line may be level or upright: the turn to whichever is nearer."""
    return float((angle + np.pi / 4) % (np.pi / 2) - np.pi / 4)
