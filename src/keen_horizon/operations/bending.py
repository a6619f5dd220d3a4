"""Whether bending a clip's picture is worth while, as the bench tells it."""

from __future__ import annotations

from typing import Any

from keen_horizon.core.motion.belief.anew import believed_as
from keen_horizon.core.path.bending.offer import offered
from keen_horizon.core.path.solve import solve_path
from keen_horizon.operations.solving import Question

MOST_FRAMES = 600  # that are looked at, in the middle of a longer range: two seconds' work


def bend_told(question: Question) -> dict[str, Any]:
    """What bending would be; `offer` is null where nothing is to be bent, `frames` are those looked at."""
    measurement, treatment = question.measurement, question.treatment
    if not question.measured or measurement.sphere or not treatment.motion.steadies_whole:
        return {"offer": None, "frames": None}
    middle = (measurement.first + measurement.last) // 2
    first = max(measurement.first, middle - MOST_FRAMES // 2)
    last = min(measurement.last, first + MOST_FRAMES - 1)
    part = measurement if (first, last) == (measurement.first, measurement.last) else measurement.part(first, last)
    motion = treatment.motion.model_copy(update={"bend_limit_px": 0.0})
    path = solve_path(part, treatment.model_copy(update={"motion": motion}))
    believed = believed_as(part, motion.belief)
    return {"offer": offered(path, believed, motion, treatment.edges).to_json(), "frames": [first, last]}
