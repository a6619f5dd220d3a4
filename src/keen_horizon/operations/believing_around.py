"""What the measurement of a sphere believes, as its bench shows it: points, and what the camera carries along."""

from __future__ import annotations

from typing import Any

import numpy as np

from keen_horizon.core.cameras.sphere import sphere_of
from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.motion.belief.areas import ignored_rows
from keen_horizon.core.motion.sphere.rows import at_middle_row, shot_spins
from keen_horizon.core.motion.sphere.subjects import carried_along
from keen_horizon.core.motion.sphere.turns import CLOSE_RAD, sphere_turns
from keen_horizon.operations.solving import Question

STANDS_STILL, MOVES, IGNORED = 0, 1, -2  # as of frames


def belief_around(question: Question) -> dict[str, Any]:
    """What the camera carries along; a turn's confidence is not told."""
    things = carried_along(question.measurement) if question.measured else ()
    told = [thing.to_json() | {"carried": True, "to": question.measurement.last, "at": None} for thing in things]
    return {"known": question.measured, "confidence": None, "pairs": [], "doubts": [], "subjects": told, "asked": None}


def points_around(question: Question, start: int, stop: int) -> dict[str, Any]:
    """The points of frames `start` ... `stop` - 1, counted from the range's first, and how far they are off."""
    measurement = question.measurement
    belief = question.treatment.motion.belief
    sphere = sphere_of(measurement.size)
    evidence = measurement.evidence
    table = slice(int(evidence.starts[start]), int(evidence.starts[stop]))
    pair = np.repeat(np.arange(start, stop), np.diff(evidence.starts)[start:stop])
    turns = sphere_turns(believed_as(measurement, belief), sphere)
    source, target = (sphere.rays(points[table].astype(np.float64)) for points in (evidence.points, evidence.moved))
    if measurement.readout.seen:
        read_turns = measurement.readout.frames * shot_spins(turns.rotations, measurement.cut)
        source, target = at_middle_row(source, read_turns[pair]), at_middle_row(target, read_turns[pair + 1])
    off = np.linalg.norm(turns.pairs[pair].apply(source) - target, axis=-1) if len(pair) else np.zeros(0)
    layer = np.where(off < CLOSE_RAD, STANDS_STILL, MOVES)
    if belief.ignore:
        layer[ignored_rows(measurement, belief.ignore)[table]] = IGNORED
    return {
        "starts": (evidence.starts[start : stop + 1] - evidence.starts[start]).tolist(),
        "x": evidence.points[table, 0].round(1).tolist(),
        "y": evidence.points[table, 1].round(1).tolist(),
        "layer": layer.tolist(),
        "off": (off * sphere.px_per_rad).round(2).tolist(),
    }
