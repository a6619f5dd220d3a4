"""A treatment with all that a clip tells of its glass's light and colours."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings
from keen_horizon.pipeline.colours import measure_fringe, told_fringe
from keen_horizon.pipeline.light import measure_falloff, told_falloff

Progress = Callable[[int, int], None]


def with_glass(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    treatment: Treatment,
    bar: Callable[[str], Progress],
) -> tuple[Treatment, tuple[str, ...], tuple[LensError, ...]]:
    """The treatment with the fall-off and the fringes that the measured range shows, what there is to say of them, and
    which of both the clip does not tell. `bar` gives what shows the progress of a named step.

    Raises LensError where it tells neither, MediaError.
    """
    notes: list[str] = []
    untold: list[LensError] = []
    material = source, info, times, measurement
    optics = treatment.optics
    falloff = measure_falloff(*material, bar("measuring the light"))
    try:
        notes.append(told_falloff(info.name, falloff))
        figures = _figures(optics.falloff, falloff.to_json(), ("coefficients", "centre_x", "centre_y"))
        optics = optics.model_copy(update={"falloff": FalloffSettings.model_validate(figures)})
    except LensError as error:
        untold.append(error)
    fringe = measure_fringe(*material, bar("measuring the colours"))
    try:
        notes.append(told_fringe(info.name, fringe, measurement.size.half_diagonal))
        figures = _figures(optics.fringe, fringe.to_json(), ("red", "blue", "centre_x", "centre_y"))
        optics = optics.model_copy(update={"fringe": FringeSettings.model_validate(figures)})
    except LensError as error:
        untold.append(error)
    if not notes:
        raise LensError(" ".join(map(str, untold)))
    return treatment.model_copy(update={"optics": optics}), tuple(notes), tuple(untold)


def _figures(
    known: FalloffSettings | FringeSettings | None, found: dict[str, Any], names: tuple[str, ...]
) -> dict[str, Any]:
    """What is known, with the figures that were found."""
    return (known.model_dump() if known else {}) | {name: found[name] for name in names}
