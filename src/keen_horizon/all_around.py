"""The command line's work on spheres, once they are measured."""

from __future__ import annotations

import argparse
import time

import numpy as np
from numpy.typing import NDArray

from keen_horizon.console import bar, tell, write_json
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.core.media.probe import ClipInfo
from keen_horizon.core.motion.measurement import Measurement
from keen_horizon.core.motion.pin import PinTrack
from keen_horizon.core.path.sphere.figures import sphere_notes
from keen_horizon.core.path.sphere.solve import solve_sphere
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.pipeline.rendering import render_clip
from keen_horizon.pipeline.report import sphere_report


def correct_sphere(
    options: argparse.Namespace,
    info: ClipInfo,
    times: NDArray[np.float64],
    measurement: Measurement,
    treatment: Treatment,
    pins: tuple[PinTrack, ...],
    measuring_s: float,
) -> None:
    """Solve and render a measured sphere as the command line asks. Raises KeenHorizonError for what it cannot have."""
    if options.compare or options.path:
        raise KeenHorizonError(
            f"{info.name}: a sphere has neither a comparison nor a camera path file. Leave them out."
        )
    began = time.perf_counter()
    path = solve_sphere(measurement, treatment, pins)
    solved = time.perf_counter()
    notes = sphere_notes(measurement, treatment, path, pins)
    tell(info, notes)
    facts = render_clip(options.source, info, times, path, treatment, options.destination, bar("rendering"))
    if options.report:
        seconds = {"measure": measuring_s, "solve": solved - began, "render": facts.seconds}
        write_json(options.report, sphere_report(path, treatment, info, facts, seconds, notes))
