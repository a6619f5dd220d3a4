"""What an editor should know of a solved range, in words: what could not be done, and for which frames."""

from __future__ import annotations

from keen_horizon.core.motion.measurement import Measurement, measurement_notes
from keen_horizon.core.path.levelling import level_note
from keen_horizon.core.treatment import Treatment


def solution_notes(measurement: Measurement, treatment: Treatment) -> tuple[str, ...]:
    """Of the level, where that is the intent, and of the measurement."""
    notes = measurement_notes(measurement)
    if treatment.motion.intent == "level":
        return (level_note(measurement, treatment.motion.level.lines), *notes)
    return notes
