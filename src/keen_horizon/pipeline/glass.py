"""What a clip tells of its glass's light and colours, and a treatment with all of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.errors import LensError
from keen_horizon.core.finding.falloff import FoundFalloff
from keen_horizon.core.finding.fringe import FoundFringe
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.found import with_colours, with_dead_edge, with_light
from keen_horizon.pipeline.chosen import show
from keen_horizon.pipeline.colours import ColoursLook, told_fringe
from keen_horizon.pipeline.flat_field import told_field
from keen_horizon.pipeline.light import LightLook, told_dead, told_falloff

Progress = Callable[[int, int], None]


def measure_glass(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    progress: Progress = lambda done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
) -> tuple[FoundFalloff, FoundFringe]:
    """What the measured range shows of the glass's light and colours, in one reading. Raises MediaError, Stopped."""
    light, colours = LightLook(measurement), ColoursLook(measurement)
    show((light, colours), source, info, times, measurement, progress, should_stop)
    falloff = light.found()
    return falloff, colours.found(falloff.dead)


def with_glass(
    source: Path,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    treatment: Treatment,
    progress: Progress,
    field: tuple[str, FoundFalloff] | None = None,
) -> tuple[Treatment, tuple[str, ...], tuple[LensError, ...]]:
    """The treatment with the fall-off, dead edge and fringes that the measured range shows, what to say of them, and
    which of both the clip does not tell. What a `field`, a file of something plain by its name, told of the light
    stands in for what the clip does.

    Raises LensError where it tells neither, MediaError.
    """
    notes: list[str] = []
    untold: list[LensError] = []
    optics = treatment.optics
    of_clip, fringe = measure_glass(source, info, times, measurement, progress)
    falloff = of_clip if field is None else field[1]
    try:
        notes.append(told_falloff(info.name, falloff) if field is None else told_field(*field))
        optics = optics.model_copy(update={"falloff": with_light(optics.falloff, falloff.to_json())})
    except LensError as error:
        untold.append(error)
    if falloff.dead is not None:
        notes.append(told_dead(falloff.dead))
        optics = optics.model_copy(update={"falloff": with_dead_edge(optics.falloff, falloff.dead.to_json())})
    try:
        notes.append(told_fringe(info.name, fringe, measurement.size.half_diagonal))
        optics = optics.model_copy(update={"fringe": with_colours(optics.fringe, fringe.to_json())})
    except LensError as error:
        untold.append(error)
    if not notes:
        raise LensError(" ".join(map(str, untold)))
    return treatment.model_copy(update={"optics": optics}), tuple(notes), tuple(untold)
